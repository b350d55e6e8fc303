import { computed, ref, watch, type Ref } from 'vue'

import { api, data, type Preview } from '../api/client'
import { columnName } from '../format'
import { nameOf, type Heading } from './naming'
import type { Outline } from './text'

/** useSources lists what a binding can take its value from: columns of a sheet, or paths of a tree. */
export function useSources(
  sha: string,
  sheet: Ref<string>,
  tree: Ref<boolean>,
  preview: Ref<Preview | undefined>,
  outline: Ref<Outline | undefined>,
) {
  const headings = ref<Heading[]>([])
  watch(
    [() => preview.value?.heading, () => preview.value?.names?.join('\n'), sheet, tree],
    async () => {
      if (tree.value) return
      const row = preview.value?.heading
      const width = Math.max(...(preview.value?.columns ?? []).map((c) => c.column), 0)
      const answer = row
        ? await data(
            api.GET('/api/v1/documents/{document}/rows', {
              params: { path: { document: sha }, query: { sheet: sheet.value || undefined, from: row, limit: 1 } },
            }),
          )
        : { rows: [] }
      const cells = preview.value?.names ?? answer.rows[0]?.cells ?? []
      headings.value = Array.from({ length: Math.max(width, cells.length) }, (_, i) => ({
        column: i + 1,
        heading: (cells[i] ?? '').replace(/\s+/g, ' ').trim(),
      }))
    },
    { immediate: true },
  )
  const columns = computed(() => {
    if (tree.value) {
      const paths = new Set([
        ...(outline.value?.bound.map((b) => b.from).filter((f) => f) ?? []),
        ...(preview.value?.coverage.unbound.map((u) => u.heading ?? '') ?? []),
      ])
      return [...paths].map((value) => ({ value, label: value }))
    }
    const list = headings.value.map((h) => ({
      value: nameOf(headings.value, h.column),
      label: h.heading ? `${h.heading} (${columnName(h.column)})` : columnName(h.column),
    }))
    for (const b of outline.value?.bound ?? [])
      if (b.from && !b.label && !list.some((x) => x.value === b.from)) list.push({ value: b.from, label: b.from })
    return list
  })
  return { columns, named: (column: number) => nameOf(headings.value, column) }
}
