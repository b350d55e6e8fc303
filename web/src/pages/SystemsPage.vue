<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import { count, systemWord } from '../format'
import SubscriptionList from '../systems/SubscriptionList.vue'
import WhenMark from '../components/WhenMark.vue'

const router = useRouter()
const {
  data: systems,
  error,
  isPending,
  refetch,
} = useQuery({ queryKey: ['systems'], queryFn: () => data(api.GET('/api/v1/systems')), refetchInterval: 5000 })
</script>

<template>
  <div class="page">
    <div class="bar title"><h1>Systems</h1><span class="soft">Other applications that hold orders</span></div>
    <div class="sheet">
      <StateNote
        v-if="error || isPending || !systems?.items.length" :error="error" :loading="isPending"
        empty="There is no system yet. Add one with koinos system keep FILE." @retry="refetch()" />
      <DataTable v-else :value="systems.items" data-key="name" @row-click="router.push(`/systems/${$event.data.name}`)">
        <Column header="System">
          <template #body="{ data: y }">
            <RouterLink :to="`/systems/${y.name}`" @click.stop>{{ y.name }}</RouterLink>
          </template>
        </Column>
        <Column header="About" field="about" />
        <Column header="Now">
          <template #body="{ data: y }">
            <OutcomeMark :word="systemWord(y)" />
            <span v-if="y.state.away_since" class="soft"> since <WhenMark plain :at="y.state.away_since" /></span>
          </template>
        </Column>
        <Column header="In the last hour">
          <template #body="{ data: y }">
            <span v-if="y.state.calls">{{ count(y.state.calls, 'call') }}<span v-if="y.state.failed">,
              {{ y.state.failed }} failed</span>
            </span>
            <span v-else class="soft">no call</span>
          </template>
        </Column>
        <Column header="Records"><template #body="{ data: y }">{{ y.records?.join(', ') }}</template></Column>
        <Column header="Version" class="right" field="version" />
      </DataTable>
    </div>
    <SubscriptionList />
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
</style>
