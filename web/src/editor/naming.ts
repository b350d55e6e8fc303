import { columnName } from '../format'

export interface Heading {
  column: number
  heading: string
}

/** nameOf is how a binding names a column: by its heading where that is clear, else by its letter. */
export function nameOf(headings: Heading[], column: number): string {
  const h = headings.find((x) => x.column === column)?.heading ?? ''
  return h && headings.filter((x) => x.heading === h).length === 1 ? h : `@${columnName(column)}`
}

/**
 * pathUnder turns the JSON Pointer of a value into the path by which a binding
 * of a level names it, from the record it stands in: that of a line, of the
 * order, or the document.
 */
export function pathUnder(
  pointer: string,
  level: string,
  order: string,
  lines: string[],
): { path: string; of: string } {
  const line = lines.find((p) => p && pointer.startsWith(p + '/'))
  const [base, of] =
    level === 'lines' && line
      ? [line, '']
      : pointer.startsWith(order + '/')
        ? [order, level === 'lines' ? 'order' : '']
        : ['', 'document']
  const names = pointer
    .slice(base.length + 1)
    .split('/')
    .map((n) => n.replace(/~1/g, '/').replace(/~0/g, '~'))
  if (names.length === 1 && /^[A-Za-z_]\w*$/.test(names[0]!)) return { path: names[0]!, of }
  return {
    path:
      '$' + names.map((n) => (/^\d+$/.test(n) ? `[${n}]` : /^[A-Za-z_]\w*$/.test(n) ? `.${n}` : `['${n}']`)).join(''),
    of,
  }
}

/** explained is the place of a field in the documentation of mappings. */
export const explained = (field: string) => field.replace(/\..*/, '.…')
