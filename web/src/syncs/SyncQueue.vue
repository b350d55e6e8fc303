<script lang="ts">
import WhenMark from '../components/WhenMark.vue'
const states = [
  { state: 'waiting', label: 'waiting' },
  { state: 'after', label: 'waiting for another record' },
  { state: 'held', label: 'held' },
  { state: 'aside', label: 'put aside' },
  { state: 'unanswered', label: 'not answered' },
] as const
/** QueueState is which part of a queue is shown. */
export type QueueState = (typeof states)[number]['state']
</script>

<script setup lang="ts">
import Column from 'primevue/column'
import Select from 'primevue/select'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { usePages } from '../paging'

const props = defineProps<{ name: string }>()
const state = defineModel<QueueState>()
const name = computed(() => props.name)
const word = (s: string) => states.find((x) => x.state === s)?.label ?? s
const list = usePages('tasks', [name, state], (cursor, limit) => data(api.GET('/api/v1/syncs/{name}/tasks', { params: { path: { name: name.value }, query: { state: state.value, limit, cursor } } })), { again: () => true, size: 50 })
const { trail } = list
</script>

<template>
  <div class="bar">
    <Select
      v-model="state" size="small" :options="[...states]" option-label="label" option-value="state" show-clear
      placeholder="All" aria-label="Which" @change="trail = []" />
  </div>
  <PagedTable :list="list" row-key="id" empty="Nothing is waiting.">
    <Column header="Order">
      <template #body="{ data: k }">
        <RouterLink :to="`/orders/${k.order_id}`">{{ k.order || k.order_id }}</RouterLink>
      </template>
    </Column>
    <Column header="Record"><template #body="{ data: k }">{{ k.system }} {{ k.record }}</template></Column>
    <Column header="State"><template #body="{ data: k }"><OutcomeMark :word="word(k.state)" /></template></Column>
    <Column header="Since"><template #body="{ data: k }"><WhenMark :at="k.made_at" /></template></Column>
    <Column header="Attempts" class="right" field="attempts" />
    <Column header="Next">
      <template #body="{ data: k }">
        <template v-if="k.state === 'waiting'"><WhenMark :at="k.due_at" /></template>
      </template>
    </Column>
    <Column header="Why" field="why" />
  </PagedTable>
</template>

<style scoped>
.bar {
  margin-bottom: 8px;
}
</style>
