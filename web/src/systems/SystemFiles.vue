<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { when } from '../format'
import { usePages } from '../paging'

const props = defineProps<{ name: string }>()
const name = computed(() => props.name)
const { trail, page, error, isPending, refetch } = usePages('files', [name], (cursor) => data(api.GET('/api/v1/systems/{name}/files', { params: { path: { name: name.value }, query: { limit: 20, cursor } } })))
</script>

<template>
  <PagedTable v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="id" empty="No file has come yet. Pulls look into the folder." @retry="refetch()">
    <Column header="File"><template #body="{ data: f }"><RouterLink :to="`/documents/${f.document}`">{{ f.name }}</RouterLink></template></Column>
    <Column header="Came"><template #body="{ data: f }"><span class="when">{{ when(f.at) }}</span></template></Column>
    <Column header="Its id" field="file_id" />
    <Column header="State"><template #body="{ data: f }"><OutcomeMark :word="f.state" /></template></Column>
    <Column header="Records" class="right" field="records" />
    <Column header="Answered by" field="answer" />
    <Column header="Pull" class="right" field="pull" />
    <Column header="Reason"><template #body="{ data: f }"><span class="why">{{ f.reason }}</span></template></Column>
  </PagedTable>
</template>

<style scoped>
.when { white-space: nowrap; }
.why { color: var(--warning); }
</style>
