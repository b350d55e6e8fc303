<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import TabStrip from '../components/TabStrip.vue'
import { count, syncWord } from '../format'
import SyncChecks from '../syncs/SyncChecks.vue'
import SyncHistory from '../syncs/SyncHistory.vue'
import SyncQueue, { type QueueState } from '../syncs/SyncQueue.vue'
import SyncRuns from '../syncs/SyncRuns.vue'
import SyncWay from '../syncs/SyncWay.vue'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string; first: string }>()
const tabs = [
  { id: 'history', label: 'What was written' },
  { id: 'queue', label: 'Queue' },
  { id: 'runs', label: 'Runs' },
  { id: 'checks', label: 'Comparisons' },
  { id: 'text', label: 'Text' },
]
const tab = ref(tabs.some((t) => t.id === props.first) ? props.first : 'history')
const waits = ref<QueueState>()
const client = useQueryClient()
const {
  data: sync,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['sync', () => props.name],
  queryFn: () => data(api.GET('/api/v1/syncs/{name}', { params: { path: { name: props.name } } })),
  refetchInterval: 2000,
})
const path = () => ({ params: { path: { name: props.name } } })
const act = useMutation({
  mutationFn: (what: 'run' | 'pause' | 'resume'): Promise<unknown> =>
    what === 'run'
      ? data(api.POST('/api/v1/syncs/{name}/runs', { ...path(), body: {} }))
      : what === 'pause'
        ? data(api.POST('/api/v1/syncs/{name}/pause', path()))
        : data(api.POST('/api/v1/syncs/{name}/resume', path())),
  onSuccess: () => client.invalidateQueries(),
})
</script>

<template>
  <div class="page">
    <StateNote
      v-if="error || isPending || !sync" :error="error" :loading="isPending" class="sheet" @retry="refetch()" />
    <template v-else>
      <div class="bar title">
        <h1>{{ sync.name }}</h1>
        <OutcomeMark :word="syncWord(sync)" />
        <span class="soft">{{ sync.about }}</span>
        <span class="grow" />
        <Button
          size="small" label="Run now" :disabled="sync.state.state === 'paused'"
          :loading="act.isPending.value && act.variables.value === 'run'" @click="act.mutate('run')" />
        <Button v-if="sync.state.state === 'active'" size="small" outlined label="Pause" @click="act.mutate('pause')" />
        <Button v-else size="small" label="Resume" @click="act.mutate('resume')" />
      </div>
      <StateNote v-if="act.error.value" :error="act.error.value" class="sheet" @retry="act.reset()" />
      <p v-if="sync.state.reason" class="why">{{ sync.state.reason }} Since <WhenMark plain
        :at="sync.state.since" />.</p>
      <SyncWay :sync="sync" />
      <p v-if="sync.state.counts.held" class="why">
        {{ count(sync.state.counts.held, 'order') }} held: <RouterLink
          :to="{ path: '/held', query: { sync: sync.name } }">see why, fix the cause, and try again</RouterLink>.
      </p>
      <p v-if="sync.state.unanswered" class="why">
        {{ count(sync.state.unanswered, 'file') }} not answered in time: <a href="#sync"
          @click.prevent="waits = 'unanswered', tab = 'queue'">see which</a>, and ask those who should have.
      </p>
      <TabStrip v-model="tab" :tabs="tabs" panel="sync" label="What to see of the sync" />
      <div id="sync" role="tabpanel" :aria-labelledby="`sync-${tab}`">
        <SyncHistory v-if="tab === 'history'" :name="name" />
        <SyncQueue v-else-if="tab === 'queue'" v-model="waits" :name="name" />
        <SyncRuns v-else-if="tab === 'runs'" :name="name" />
        <SyncChecks v-else-if="tab === 'checks'" :name="name" />
        <template v-else><p class="soft"><RouterLink to="/docs/sync#the-words">Every word explained</RouterLink></p><pre class="sheet yaml" tabindex="0">{{ sync.text }}</pre></template>
      </div>
    </template>
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
.why {
  color: var(--warning);
  margin: 0 0 10px;
}
.yaml {
  margin: 0;
  padding: 14px 18px;
  overflow: auto;
  font-size: 13px;
}
</style>
