<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string }>()
const name = computed(() => props.name)
const list = usePages('files', [name], (cursor, limit) =>
  data(api.GET('/api/v1/systems/{name}/files', { params: { path: { name: name.value }, query: { limit, cursor } } })),
)
</script>

<template>
  <PagedTable :list="list" row-key="id" empty="No file has arrived yet. Pulls look into the folder.">
    <Column header="File">
      <template #body="{ data: f }"><RouterLink :to="`/documents/${f.document}`">{{ f.name }}</RouterLink></template>
    </Column>
    <Column header="Came">
      <template #body="{ data: f }"><span class="when"><WhenMark :at="f.at" /></span></template>
    </Column>
    <Column header="Its id" field="file_id" />
    <Column header="State"><template #body="{ data: f }"><OutcomeMark :word="f.state" /></template></Column>
    <Column header="Records" class="right" field="records" />
    <Column header="Answered by" field="answer" />
    <Column header="Pull" class="right" field="pull" />
    <Column header="Reason"><template #body="{ data: f }"><span class="why">{{ f.reason }}</span></template></Column>
  </PagedTable>
</template>

<style scoped>
.when {
  white-space: nowrap;
}
.why {
  color: var(--warning);
}
</style>
