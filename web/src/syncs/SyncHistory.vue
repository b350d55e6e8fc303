<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { when } from '../format'
import { usePages } from '../paging'
import StepList from './StepList.vue'

// What a sync, or anybody, wrote: the calls, and what stood there before.
const props = defineProps<{ name?: string; order?: number }>()
const key = computed(() => `${props.name ?? ''} ${props.order ?? ''}`)
const { trail, page, error, isPending, refetch } = usePages('pushed', [key], (cursor) => data(api.GET('/api/v1/pushed', { params: { query: { sync: props.name, order: props.order ? String(props.order) : undefined, limit: 20, cursor } } })))
</script>

<template>
  <PagedTable v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="id" empty="Nothing was written yet." @retry="refetch()">
    <Column header="When"><template #body="{ data: p }"><span class="when">{{ when(p.at) }}</span></template></Column>
    <Column v-if="!order" header="Order"><template #body="{ data: p }"><RouterLink :to="`/orders/${p.order_id}`">{{ p.order || p.order_id }}</RouterLink></template></Column>
    <Column header="Record"><template #body="{ data: p }">{{ p.system }} {{ p.record }} {{ p.key }}</template></Column>
    <Column header="Outcome"><template #body="{ data: p }"><OutcomeMark :word="p.outcome" /></template></Column>
    <Column header="What was done"><template #body="{ data: p }"><StepList :steps="p.steps" /><span v-if="p.why" class="why">{{ p.why }}</span></template></Column>
    <Column header="By"><template #body="{ data: p }">{{ p.by }}</template></Column>
  </PagedTable>
</template>

<style scoped>
.when { white-space: nowrap; }
.why { color: var(--warning); }
</style>
