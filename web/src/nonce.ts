/** The word of this answer: only styles that bear it, and those of our own files, are taken (Content-Security-Policy). */
export const nonce = document.querySelector<HTMLMetaElement>('meta[property=csp-nonce]')?.nonce ?? ''
