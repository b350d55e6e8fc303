<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { count } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string }>()
const name = computed(() => props.name)
const list = usePages(
  'sync-runs',
  [name],
  (cursor, limit) =>
    data(api.GET('/api/v1/syncs/{name}/runs', { params: { path: { name: name.value }, query: { limit, cursor } } })),
  { again: (items) => items.some((r) => r.state === 'running') },
)
</script>

<template>
  <PagedTable :list="list" row-key="id" empty="It has not been run yet.">
    <Column header="Run" field="id" />
    <Column header="When"><template #body="{ data: r }"><WhenMark :at="r.started_at" /></template></Column>
    <Column header="State"><template #body="{ data: r }"><OutcomeMark :word="r.state" /></template></Column>
    <Column header="Read">
      <template #body="{ data: r }">
        <div v-for="p in r.pulls" :key="p.system + p.record">{{ p.system }} {{ p.record }}:
          {{ count(p.records, 'record') }}, {{ p.loaded }} new, {{ p.changed }} changed<span v-if="p.reason"
          class="why"> {{ p.reason }}</span>
        </div>
      </template>
    </Column>
    <Column header="Written">
      <template #body="{ data: r }">{{ r.counts.created }} created, {{ r.counts.changed }} changed, {{ r.counts.right }}
        right already</template>
    </Column>
    <Column header="By" field="by" />
  </PagedTable>
</template>

<style scoped>
.why {
  color: var(--warning);
}
</style>
