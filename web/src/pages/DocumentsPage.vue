<script setup lang="ts">
import Column from 'primevue/column'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import DropZone from '../components/DropZone.vue'
import PagedTable from '../components/PagedTable.vue'
import { size, when } from '../format'
import { usePages } from '../paging'

const router = useRouter()
const { trail, page, error, isPending, refetch } = usePages('documents', [], (cursor) => data(api.GET('/api/v1/documents', { params: { query: { limit: 20, cursor } } })))
</script>

<template>
  <div class="page">
    <DropZone />
    <h2 class="title">Documents received</h2>
    <PagedTable name="documents" v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="sha" empty="Nothing has been received yet." @open="router.push(`/documents/${$event.sha}`)" @retry="refetch()">
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
.title { margin: 22px 0 8px; }
</style>
