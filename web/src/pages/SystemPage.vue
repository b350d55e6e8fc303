<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import TabStrip from '../components/TabStrip.vue'
import { count, systemWord, when } from '../format'
import SystemArrivals from '../systems/SystemArrivals.vue'
import SystemCalls from '../systems/SystemCalls.vue'
import SystemFiles from '../systems/SystemFiles.vue'
import SystemHooks from '../systems/SystemHooks.vue'
import SystemPulls from '../systems/SystemPulls.vue'
import SystemTry from '../systems/SystemTry.vue'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string; first: string }>()
const all = [
  { id: 'records', label: 'Records' },
  { id: 'pulls', label: 'Pulls' },
  { id: 'arrivals', label: 'Arrivals' },
  { id: 'files', label: 'Files' },
  { id: 'webhooks', label: 'Webhooks' },
  { id: 'calls', label: 'Calls' },
  { id: 'description', label: 'Description' },
]
const tab = ref(all.some((t) => t.id === props.first) ? props.first : 'records')
const {
  data: system,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['system', () => props.name],
  queryFn: () => data(api.GET('/api/v1/systems/{name}', { params: { path: { name: props.name } } })),
  refetchInterval: 5000,
})
// A folder is not called, and an API has no files.
const tabs = computed(() =>
  all.filter((t) => (system.value?.folder ? !['webhooks', 'calls'].includes(t.id) : t.id !== 'files')),
)
</script>

<template>
  <div class="page">
    <StateNote
      v-if="error || isPending || !system" :error="error" :loading="isPending" class="sheet" @retry="refetch()" />
    <template v-else>
      <div class="bar title">
        <h1>{{ system.name }}</h1>
        <span class="soft">{{ system.about }}</span>
        <span class="grow" />
        <span class="soft">version {{ system.version }}, kept <WhenMark :at="system.stored_at" /> by
          {{ system.stored_by }}</span>
      </div>
      <dl class="sheet figures">
        <div v-if="!system.folder">
          <dt>Now</dt>
          <dd>
            <OutcomeMark :word="systemWord(system)" />
            <span v-if="system.state.away_since"> since <WhenMark plain :at="system.state.away_since" /></span>
          </dd>
        </div>
        <div><dt>{{ system.folder ? 'Folder' : 'Address' }}</dt><dd>{{ system.address }}</dd></div>
        <div v-if="!system.folder">
          <dt>Signed in</dt>
          <dd>{{ system.state.signed_until ? `until ${when(system.state.signed_until)}` : 'no end to it' }}</dd>
        </div>
        <div v-if="!system.folder">
          <dt>In the last hour</dt>
          <dd>{{ count(system.state.calls, 'call') }}<template v-if="system.state.failed">, {{ system.state.failed }}
            failed</template>
            <template v-if="system.state.millis">, half within {{ system.state.millis }} ms</template>
          </dd>
        </div>
        <div v-if="system.state.rate">
          <dt>Limit</dt>
          <dd>{{ system.state.rate }} calls a second<template v-if="system.state.points_left !== undefined">,
            {{ Math.round(system.state.points_left) }} points left</template>
            <template v-if="system.state.waits_until">, asked to wait until <WhenMark plain
              :at="system.state.waits_until" />
            </template>
          </dd>
        </div>
        <div v-if="system.state.hooks.taken + system.state.hooks.refused + system.state.hooks.passed_over">
          <dt>Webhooks</dt>
          <dd>{{ system.state.hooks.taken }} taken<template v-if="system.state.hooks.refused">,
            {{ system.state.hooks.refused }} refused</template>
            <template v-if="system.state.hooks.passed_over">, {{ system.state.hooks.passed_over }} passed
              over</template>
          </dd>
        </div>
        <div v-if="system.state.why" class="why"><dt>Last call</dt><dd>{{ system.state.why }}</dd></div>
      </dl>
      <TabStrip v-model="tab" :tabs="tabs" panel="system" label="What to see of the system" />
      <div id="system" role="tabpanel" :aria-labelledby="`system-${tab}`">
        <SystemTry v-if="tab === 'records'" :system="system" />
        <SystemPulls v-else-if="tab === 'pulls'" :system="system" />
        <SystemArrivals v-else-if="tab === 'arrivals'" :name="name" />
        <SystemFiles v-else-if="tab === 'files'" :name="name" />
        <SystemHooks v-else-if="tab === 'webhooks'" :name="name" />
        <SystemCalls v-else-if="tab === 'calls'" :name="name" />
        <template v-else><p class="soft"><RouterLink to="/docs/systems#a-description">Every word explained</RouterLink></p><pre class="sheet yaml" tabindex="0">{{ system.text }}</pre></template>
      </div>
    </template>
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
.figures {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 34px;
  padding: 10px 16px;
  margin: 0 0 12px;
}
.figures dt {
  color: var(--ink-soft);
  font-size: 12px;
}
.figures dd {
  margin: 0;
}
.figures .why {
  flex-basis: 100%;
  color: var(--warning);
}
.yaml {
  margin: 0;
  padding: 14px 18px;
  overflow: auto;
  font-size: 13px;
}
</style>
