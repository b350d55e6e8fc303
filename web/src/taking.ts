import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { sendDocument } from './api/client'

/** The kinds of file that a page for choosing one offers. */
export const kinds = '.csv,.txt,.tsv,.xlsx,.xlsm,.ods,.json,.ndjson,.jsonl,.edi,.x12'

/** A small order document, for who has none at hand: the one of the first page of the documentation. */
const example = `Kestle & Sons, orders of the week;;;;
;;;;
PO;Date;Article;Pcs;Price
K-1;02.03.2026;A-417;2;9,50
;;A-489;10;31,42
K-2;03.03.2026;B-113;4;1,33
K-3;03.03.2026;B-113;four;1,33
Total;;;16;
`

/** useTaking sends documents in, from wherever they are dropped or chosen, and opens their page. */
export function useTaking() {
  const router = useRouter()
  const queries = useQueryClient()
  const sending = ref('')
  const failed = ref<unknown>()

  async function take(files: FileList | File[] | null | undefined) {
    const file = files?.[0]
    if (!file || sending.value) return
    failed.value = undefined
    sending.value = file.name
    try {
      const doc = await sendDocument(file)
      await queries.invalidateQueries({ queryKey: ['documents'] })
      await router.push({ path: `/documents/${doc.sha}`, query: doc.known ? { known: '1' } : {} })
    } catch (e) {
      failed.value = e
    } finally {
      sending.value = ''
    }
  }
  const takeExample = () => take([new File([example], 'kestle-week.csv', { type: 'text/csv' })])
  return { take, takeExample, sending, failed }
}
