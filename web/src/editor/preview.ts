import { ref, type Ref } from 'vue'

import { api, data, ProblemError, type Finding, type Preview, type RowsOutcome } from '../api/client'

/**
 * What the mapping in text makes of a sheet of a document. The rows are fetched
 * once, what the mapping makes of them again and again; seq is the order whose
 * paper is shown.
 */
export function usePreview(sha: string, text: Ref<string>, sheet: Ref<string>) {
  const preview = ref<Preview>()
  const mistakes = ref<Finding[]>([])
  const seq = ref(0)
  const path = { params: { path: { document: sha } } }
  const blocks = new Map<string, Promise<RowsOutcome>>()
  const block = 200

  async function look(from: number, to: number): Promise<Preview | undefined> {
    try {
      const p = await data(
        api.POST('/api/v1/documents/{document}/preview', {
          ...path,
          body: {
            mapping: { text: text.value },
            sheet: sheet.value || undefined,
            from,
            to,
            seq: seq.value || undefined,
          },
        }),
      )
      mistakes.value = []
      return p
    } catch (e) {
      if (!(e instanceof ProblemError)) throw e
      mistakes.value = e.problem.findings?.length
        ? e.problem.findings
        : [
            {
              code: e.problem.code,
              severity: 'error',
              place: {},
              at: '',
              message: e.problem.detail ?? e.problem.title,
            } as Finding,
          ]
      return undefined
    }
  }
  async function fetchRows(from: number, limit: number): Promise<RowsOutcome> {
    const key = `${sheet.value} ${from}`
    if (!blocks.has(key)) {
      const rows = data(
        api.GET('/api/v1/documents/{document}/rows', {
          ...path,
          params: { ...path.params, query: { sheet: sheet.value || undefined, from, limit } },
        }),
      ).then((r) => ({ ...r, spans: [], findings: [] }))
      rows.catch(() => blocks.delete(key))
      blocks.set(key, rows)
    }
    const rows = await blocks.get(key)!
    if (!text.value) return rows
    const p = await look(from, from + limit - 1)
    if (!p) return rows
    preview.value = { ...p, paper: p.paper ?? preview.value?.paper }
    return { ...rows, rows: p.cut ?? rows.rows, spans: p.spans, findings: p.paper?.findings ?? [] }
  }
  /** cellsOf gives a row's cells, as far as it has been shown. */
  async function cellsOf(row: number): Promise<string[]> {
    const cut = preview.value?.cut?.find((r) => r.row === row)
    if (cut) return cut.cells
    const rows = await blocks.get(`${sheet.value} ${Math.floor((row - 1) / block) * block + 1}`)
    return rows?.rows.find((r) => r.row === row)?.cells ?? []
  }
  return { preview, mistakes, seq, fetchRows, cellsOf }
}
