<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { usePages } from '../paging'
import StepList from './StepList.vue'
import WhenMark from '../components/WhenMark.vue'

// What a sync, or anybody, wrote: the calls, and what stood there before.
const props = defineProps<{ name?: string; order?: number }>()
const key = computed(() => `${props.name ?? ''} ${props.order ?? ''}`)
const list = usePages('pushed', [key], (cursor, limit) =>
  data(
    api.GET('/api/v1/pushed', {
      params: { query: { sync: props.name, order: props.order ? String(props.order) : undefined, limit, cursor } },
    }),
  ),
)
</script>

<template>
  <PagedTable :list="list" row-key="id" empty="Nothing was written yet.">
    <Column header="When">
      <template #body="{ data: p }"><span class="when"><WhenMark :at="p.at" /></span></template>
    </Column>
    <Column v-if="!order" header="Order">
      <template #body="{ data: p }">
        <RouterLink :to="`/orders/${p.order_id}`">{{ p.order || p.order_id }}</RouterLink>
      </template>
    </Column>
    <Column header="Record"><template #body="{ data: p }">{{ p.system }} {{ p.record }} {{ p.key }}</template></Column>
    <Column header="Outcome"><template #body="{ data: p }"><OutcomeMark :word="p.outcome" /></template></Column>
    <Column header="What was done">
      <template #body="{ data: p }">
        <StepList :steps="p.steps" />
        <span v-if="p.why" class="why">{{ p.why }}</span>
      </template>
    </Column>
    <Column header="By"><template #body="{ data: p }">{{ p.by }}</template></Column>
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
