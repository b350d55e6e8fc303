<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, sendDocument } from '../api/client'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { size, when } from '../format'
import { usePages } from '../paging'

const router = useRouter()
const queries = useQueryClient()
const { trail, page, error, isPending, refetch } = usePages('documents', [], (cursor) => data(api.GET('/api/v1/documents', { params: { query: { limit: 20, cursor } } })))

const chooser = ref<HTMLInputElement>()
const over = ref(false)
const sending = ref('')
const failed = ref<unknown>()

async function take(files: FileList | null | undefined) {
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
    if (chooser.value) chooser.value.value = ''
  }
}
</script>

<template>
  <div class="page">
    <div class="drop sheet" role="region" aria-label="Where documents are dropped" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="over = false; take($event.dataTransfer?.files)">
      <div>
        <h1>{{ sending ? `Sending ${sending} …` : 'Drop an order document here' }}</h1>
        <p class="soft">A workbook, a CSV, JSON or an X12 interchange, as the partner sent it. It is kept byte for byte; nothing is loaded before you say so.</p>
      </div>
      <Button label="Choose a file" :loading="!!sending" @click="chooser?.click()" />
      <input ref="chooser" type="file" aria-label="A document from this computer" accept=".csv,.txt,.tsv,.xlsx,.xlsm,.ods,.json,.ndjson,.jsonl,.edi,.x12" hidden @change="take(($event.target as HTMLInputElement).files)" />
    </div>
    <StateNote v-if="failed" :error="failed" class="sheet failed" @retry="failed = undefined; chooser?.click()" />
    <h2 class="title">Documents received</h2>
    <PagedTable v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="sha" empty="Nothing has been received yet." @open="router.push(`/documents/${$event.sha}`)" @retry="refetch()">
      <Column header="Document"><template #body="{ data: d }"><RouterLink :to="`/documents/${d.sha}`" @click.stop>{{ d.name }}</RouterLink></template></Column>
      <Column header="Kind"><template #body="{ data: d }">{{ d.shape.format === 'xlsx' ? `workbook, ${d.shape.sheets?.length} sheet${d.shape.sheets?.length === 1 ? '' : 's'}` : d.shape.format === 'csv' ? `CSV, ${d.shape.encoding}` : { json: 'JSON', ndjson: 'NDJSON', x12: 'X12' }[d.shape.format as string] }}</template></Column>
      <Column header="Size" class="right"><template #body="{ data: d }">{{ size(d.size) }}</template></Column>
      <Column header="Received"><template #body="{ data: d }">{{ when(d.received_at) }} by {{ d.received_by }}</template></Column>
      <Column header="Loads" class="right"><template #body="{ data: d }">{{ d.loads }}</template></Column>
      <Column header="SHA-256"><template #body="{ data: d }"><code class="soft">{{ d.sha.slice(0, 12) }}</code></template></Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.drop { display: flex; align-items: center; justify-content: space-between; gap: 20px; padding: 22px 26px; border: 2px dashed var(--rule); }
.drop p { margin: 4px 0 0; }
.over { border-color: var(--accent); background: var(--accent-wash); }
.title { margin: 22px 0 8px; }
.failed { margin-top: 12px; }
</style>
