<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'

import { api, data } from '../api/client'
import StateNote from '../components/StateNote.vue'

const props = defineProps<{ name: string }>()
const {
  data: calls,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['calls', () => props.name],
  queryFn: () => data(api.GET('/api/v1/systems/{name}/calls', { params: { path: { name: props.name } } })),
  refetchInterval: 5000,
})
const clock = (iso: string) => new Date(iso).toLocaleTimeString('en-GB')
</script>

<template>
  <div class="sheet">
    <StateNote
      v-if="error || isPending || !calls?.items.length" :error="error" :loading="isPending"
      empty="It has not been called since the service began." @retry="refetch()" />
    <DataTable v-else :value="calls.items">
      <Column header="At"><template #body="{ data: c }">{{ clock(c.at) }}</template></Column>
      <Column header="Call">
        <template #body="{ data: c }">
          <span class="address">
            <b>{{ c.method }}</b> {{ c.url }}</span> <span class="id"
              title="The X-Request-Id that went along">{{ c.id }}</span>
        </template>
      </Column>
      <Column header="Status" class="right"><template #body="{ data: c }">{{ c.status || 'none' }}</template></Column>
      <Column header="Bytes" class="right">
        <template #body="{ data: c }">{{ c.bytes.toLocaleString('en') }}</template>
      </Column>
      <Column header="ms" class="right" field="millis" />
      <Column header="Trouble"><template #body="{ data: c }"><span class="why">{{ c.why }}</span></template></Column>
    </DataTable>
  </div>
</template>

<style scoped>
.address {
  overflow-wrap: anywhere;
}
.id {
  color: var(--ink-soft);
  font-family: monospace;
  font-size: 0.75rem;
  white-space: nowrap;
}
.why {
  color: var(--warning);
}
</style>
