<script setup lang="ts">
import Column from 'primevue/column'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import DropZone from '../components/DropZone.vue'
import PagedTable from '../components/PagedTable.vue'
import { size } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const router = useRouter()
const list = usePages('documents', [], (cursor, limit) =>
  data(api.GET('/api/v1/documents', { params: { query: { limit, cursor } } })),
)
</script>

<template>
  <div class="page">
    <DropZone />
    <h2 class="title">Documents received</h2>
    <PagedTable
      name="documents" :list="list" row-key="sha" empty="Nothing has been received yet."
      @open="router.push(`/documents/${$event.sha}`)">
      <Column header="Document" sort-field="name">
        <template #body="{ data: d }">
          <RouterLink :to="`/documents/${d.sha}`" @click.stop>{{ d.name }}</RouterLink>
        </template>
      </Column>
      <Column header="Kind" sort-field="shape.format">
        <template
          #body="{ data: d }">{{ d.shape.format === 'xlsx' ? `workbook, ${d.shape.sheets?.length} sheet${d.shape.sheets?.length === 1 ? '' : 's'}` : d.shape.format === 'csv' ? `CSV, ${d.shape.encoding}` : { json: 'JSON', ndjson: 'NDJSON', x12: 'X12' }[d.shape.format as string] }}</template>
      </Column>
      <Column header="Size" sort-field="size" class="right">
        <template #body="{ data: d }">{{ size(d.size) }}</template>
      </Column>
      <Column header="Received" sort-field="received_at">
        <template #body="{ data: d }"><WhenMark :at="d.received_at" /> by {{ d.received_by }}</template>
      </Column>
      <Column header="Loads" sort-field="loads" class="right">
        <template #body="{ data: d }">{{ d.loads }}</template>
      </Column>
      <Column header="SHA-256">
        <template #body="{ data: d }"><code class="soft">{{ d.sha.slice(0, 12) }}</code></template>
      </Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.title {
  margin: 22px 0 8px;
}
</style>
