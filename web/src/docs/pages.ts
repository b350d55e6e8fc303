export interface Section {
  id: string
  level: number
  title: string
  html: string
  text: string
}
export interface Page {
  title: string
  sections: Section[]
}
export interface Hit {
  page: string
  title: string
  section: Section
  snippet: string
}

const files = import.meta.glob<Page>('../../../docs/**/*.md', { import: 'default' })
const loaders = new Map(Object.entries(files).map(([path, load]) => [/\/docs\/(.+)\.md$/.exec(path)![1]!, load]))

/** The pages by what they are for, in the order in which they are read. */
export const groups: { title: string; pages: { name: string; label: string }[] }[] = [
  { title: 'Getting started', pages: [{ name: 'getting-started', label: 'From your file to orders' }] },
  {
    title: 'How to',
    pages: [
      { name: 'how-to', label: 'Questions and answers' },
      { name: 'loading', label: 'Load documents' },
      { name: 'documents', label: 'Read unusual documents' },
      { name: 'orders', label: 'Work with orders' },
      { name: 'systems', label: 'Connect a system' },
      { name: 'sync', label: 'Keep systems in sync' },
      { name: 'operation', label: 'Run the service' },
    ],
  },
  {
    title: 'Reference',
    pages: [
      { name: 'mapping', label: 'Mappings' },
      { name: 'findings', label: 'Findings' },
      { name: 'x12', label: 'X12' },
      { name: 'commands', label: 'Commands' },
      { name: 'api', label: 'The API' },
      { name: 'data-model', label: 'Tables' },
    ],
  },
  {
    title: 'Explanation',
    pages: [
      { name: 'how-it-works', label: 'How Koinos works' },
      { name: 'decisions/README', label: 'Decisions' },
      { name: 'performance', label: 'Speed' },
    ],
  },
]

/** within reports whether a page is below another in the contents: a how-to is one of the questions. */
export function within(name: string, above: string): boolean {
  return name === above || name.startsWith(above.replace(/README$/, '').replace(/\/?$/, '/'))
}

/** pageOf loads a page; undefined where there is none. */
export async function pageOf(name: string): Promise<Page | undefined> {
  return loaders.get(name)?.()
}

/** search finds the sections in which every word stands: first those whose titles have them. */
export async function search(query: string): Promise<Hit[]> {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean)
  if (!words.length) return []
  const labels = new Map(groups.flatMap((g) => g.pages).map((p) => [p.name, p.label]))
  const pages = await Promise.all(
    [...loaders].map(async ([name, load]) => {
      const page = await load()
      return { name, label: labels.get(name) ?? page.title, page }
    }),
  )
  const hits: (Hit & { rank: number })[] = []
  for (const { name, label, page } of pages) {
    for (const section of page?.sections ?? []) {
      const title = section.title.toLowerCase()
      const text = section.text.toLowerCase()
      if (!words.every((w) => title.includes(w) || text.includes(w))) continue
      const at = Math.max(0, text.indexOf(words.find((w) => text.includes(w)) ?? '') - 60)
      const rank =
        words.filter((w) => title.includes(w)).length * 10 +
        (title === query.toLowerCase().trim() ? 100 : 0) -
        (name === 'findings' || name === 'x12' ? 1 : 0)
      hits.push({
        page: name,
        title: label,
        section,
        rank,
        snippet: (at ? '… ' : '') + section.text.slice(at, at + 220).trim() + ' …',
      })
    }
  }
  return hits.sort((a, b) => b.rank - a.rank).slice(0, 40)
}
