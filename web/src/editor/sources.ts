import { computed, ref, watch, type Ref } from 'vue'

import { api, data, type Preview } from '../api/client'
import { columnName } from '../format'
import type { Outline } from './text'

export interface Heading { column: number; heading: string }

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
export function pathUnder(pointer: string, level: string, order: string, lines: string[]): { path: string; of: string } {
  const line = lines.find((p) => p && pointer.startsWith(p + '/'))
  const [base, of] = level === 'lines' && line ? [line, ''] : pointer.startsWith(order + '/') ? [order, level === 'lines' ? 'order' : ''] : ['', 'document']
  const names = pointer.slice(base.length + 1).split('/').map((n) => n.replace(/~1/g, '/').replace(/~0/g, '~'))
  if (names.length === 1 && /^[A-Za-z_]\w*$/.test(names[0]!)) return { path: names[0]!, of }
  return { path: '$' + names.map((n) => (/^\d+$/.test(n) ? `[${n}]` : /^[A-Za-z_]\w*$/.test(n) ? `.${n}` : `['${n}']`)).join(''), of }
}

/** useSources lists what a binding can take its value from: columns of a sheet, or paths of a tree. */
export function useSources(sha: string, sheet: Ref<string>, tree: Ref<boolean>, preview: Ref<Preview | undefined>, outline: Ref<Outline | undefined>) {
  const headings = ref<Heading[]>([])
  watch([() => preview.value?.heading, sheet, tree], async () => {
    if (tree.value) return
    const row = preview.value?.heading
    const width = Math.max(...(preview.value?.columns ?? []).map((c) => c.column), 0)
    const answer = row ? await data(api.GET('/api/v1/documents/{document}/rows', { params: { path: { document: sha }, query: { sheet: sheet.value || undefined, from: row, limit: 1 } } })) : { rows: [] }
    const cells = answer.rows[0]?.cells ?? []
    headings.value = Array.from({ length: Math.max(width, cells.length) }, (_, i) => ({ column: i + 1, heading: (cells[i] ?? '').replace(/\s+/g, ' ').trim() }))
  }, { immediate: true })
  const columns = computed(() => {
    if (tree.value) {
      const paths = new Set([...(outline.value?.bound.map((b) => b.from).filter((f) => f) ?? []), ...(preview.value?.coverage.unbound.map((u) => u.heading ?? '') ?? [])])
      return [...paths].map((value) => ({ value, label: value }))
    }
    const list = headings.value.map((h) => ({ value: nameOf(headings.value, h.column), label: h.heading ? `${h.heading} (${columnName(h.column)})` : columnName(h.column) }))
    for (const b of outline.value?.bound ?? []) if (b.from && !b.label && !list.some((x) => x.value === b.from)) list.push({ value: b.from, label: b.from })
    return list
  })
  return { columns, named: (column: number) => nameOf(headings.value, column) }
}
