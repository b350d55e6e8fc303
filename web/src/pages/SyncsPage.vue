<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import { syncWord } from '../format'

const router = useRouter()
const {
  data: syncs,
  error,
  isPending,
  refetch,
} = useQuery({ queryKey: ['syncs'], queryFn: () => data(api.GET('/api/v1/syncs')), refetchInterval: 3000 })
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Syncs</h1>
      <span class="soft">Standing instructions that keep orders equal between systems</span>
    </div>
    <div class="sheet">
      <StateNote
        v-if="error || isPending || !syncs?.items.length" :error="error" :loading="isPending"
        empty="There is no sync yet. Add one with koinos sync keep FILE." @retry="refetch()" />
      <DataTable v-else :value="syncs.items" data-key="name" @row-click="router.push(`/syncs/${$event.data.name}`)">
        <Column header="Sync">
          <template #body="{ data: y }">
            <RouterLink :to="`/syncs/${y.name}`" @click.stop>{{ y.name }}</RouterLink>
          </template>
        </Column>
        <Column header="About" field="about" />
        <Column header="Now"><template #body="{ data: y }"><OutcomeMark :word="syncWord(y)" /></template></Column>
        <Column header="Created" class="right" field="state.counts.created" />
        <Column header="Changed" class="right" field="state.counts.changed" />
        <Column header="Waiting" class="right" field="state.counts.waiting" />
        <Column header="Held" class="right">
          <template #body="{ data: y }">
            <RouterLink v-if="y.state.counts.held" :to="{ path: '/held', query: { sync: y.name } }"
              @click.stop>{{ y.state.counts.held }}</RouterLink>
            <template v-else>0</template>
          </template>
        </Column>
      </DataTable>
    </div>
    <p class="soft">Created and changed are those of the last day.</p>
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
</style>
