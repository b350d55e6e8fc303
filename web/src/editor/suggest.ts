import type { Completion } from '@codemirror/autocomplete'

/** What of a JSON Schema the editor uses. */
export interface Schema {
  description?: string
  properties?: Record<string, Schema>
  patternProperties?: Record<string, Schema>
  enum?: string[]
  'x-with'?: string[] // of a word of a grouping: the groupings that it goes with
  $ref?: string
  $defs?: Record<string, Schema>
}

/** at gives the schema under a path of words. */
export function at(schema: Schema | undefined, path: string[]): Schema | undefined {
  return path.reduce((s, word) => s?.properties?.[word], schema)
}

/** goesWith reports whether a word of a grouping goes with by: by. */
export function goesWith(group: Schema | undefined, word: string, by: string): boolean {
  return group?.properties?.[word]?.['x-with']?.includes(by) ?? false
}

/** path gives the words that lead to a position, by indentation and by open braces. */
export function pathAt(text: string, pos: number): { path: string[]; value: boolean } {
  const before = text.slice(0, pos)
  const lines = before.split('\n')
  const current = lines.pop() ?? ''
  const indent = (s: string) => s.length - s.trimStart().length
  const path: string[] = []
  let depth = indent(current)
  for (let i = lines.length - 1; i >= 0; i--) {
    const line = lines[i]!
    const m = /^(\s*)([\w.*@-]+):\s*(#.*)?$/.exec(line) ?? /^(\s*)([\w.*@-]+):\s*\{/.exec(line)
    if (!m || !line.trim() || indent(line) >= depth) continue
    path.unshift(m[2]!)
    depth = indent(line)
  }
  // Words and braces of the line itself.
  let value = false
  const token = /([\w.*@-]+):|([{}[\],])/g
  const open: number[] = []
  for (let m; (m = token.exec(current));) {
    if (m[1]) {
      if (value) path.pop()
      path.push(m[1])
      value = true
    } else if (m[2] === '{') {
      open.push(path.length)
      value = false
    } else if (m[2] === '}') {
      path.length = open.pop() ?? 0
      value = false
    } else if (m[2] === ',') {
      if (value) path.pop()
      if (open.length) path.length = open[open.length - 1]!
      value = false
    }
  }
  return { path, value }
}

export function suggest(root: Schema, text: string, pos: number, columns: string[]): Completion[] {
  const { path, value } = pathAt(text, pos)
  let s: Schema | undefined = root
  const resolve = (x?: Schema): Schema | undefined => (x?.$ref ? root.$defs?.[x.$ref.split('/').pop()!] : x)
  for (const word of path) {
    const next: Schema | undefined =
      s?.properties?.[word] ?? Object.entries(s?.patternProperties ?? {}).find(([p]) => new RegExp(p).test(word))?.[1]
    s = resolve(next)
  }
  if (value) {
    const last = path[path.length - 1] ?? ''
    if (['from', 'columns', 'kind', 'find', 'unused'].includes(last) && !s?.enum)
      return columns.map((label) => ({
        label,
        type: 'variable',
        apply: /[:{}[\],#]/.test(label) ? JSON.stringify(label) : label,
      }))
    return (s?.enum ?? []).map((label) => ({ label, type: 'enum' }))
  }
  return Object.entries(s?.properties ?? {}).map(([label, x]) => ({
    label,
    type: 'property',
    info: x.description ?? resolve(x)?.description,
    apply: `${label}: `,
  }))
}
