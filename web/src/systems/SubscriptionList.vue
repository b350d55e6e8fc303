<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import SubscriptionMessages from './SubscriptionMessages.vue'
import WhenMark from '../components/WhenMark.vue'

// Who is told of what happens to orders.
const {
  data: all,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['subscriptions'],
  queryFn: () => data(api.GET('/api/v1/subscriptions')),
  refetchInterval: 5000,
})
const name = ref('')
const chosen = computed(() => all.value?.items.find((y) => y.name === name.value))
const choose = (n: string) => {
  name.value = name.value === n ? '' : n
}
</script>

<template>
  <h2>Who is told</h2>
  <div class="sheet">
    <StateNote
      v-if="error || isPending || !all?.items.length" :error="error" :loading="isPending"
      empty="No program is notified of changes to orders. Add one with koinos subscription add NAME URL."
      @retry="refetch()" />
    <DataTable v-else :value="all.items" data-key="name" @row-click="choose($event.data.name)">
      <Column header="Subscription">
        <template #body="{ data: y }">
          <button class="plain" :aria-expanded="name === y.name" @click.stop="choose(y.name)">{{ y.name }}</button>
        </template>
      </Column>
      <Column header="Address"><template #body="{ data: y }"><span class="wrap">{{ y.url }}</span></template></Column>
      <Column header="Told of">
        <template #body="{ data: y }">{{ y.events.length ? y.events.join(', ') : 'every event' }}<template
          v-if="y.partner"> of {{ y.partner }}</template>
        </template>
      </Column>
      <Column header="Now">
        <template #body="{ data: y }">
          <OutcomeMark :word="y.state" />
          <span v-if="y.state !== 'active'" class="soft"> since <WhenMark plain :at="y.since" /></span>
        </template>
      </Column>
      <Column header="Waiting" class="right"><template #body="{ data: y }">{{ y.counts.waiting }}</template></Column>
      <Column header="Delivered" class="right">
        <template #body="{ data: y }">{{ y.counts.delivered }}</template>
      </Column>
      <Column header="Failed" class="right"><template #body="{ data: y }">{{ y.counts.failed }}</template></Column>
    </DataTable>
  </div>
  <SubscriptionMessages v-if="chosen" :subscription="chosen" />
</template>

<style scoped>
h2 {
  margin: 18px 0 8px;
}
.wrap {
  overflow-wrap: anywhere;
}
.plain {
  font: inherit;
  color: var(--accent);
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
</style>
