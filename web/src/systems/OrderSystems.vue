<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, data, type StoredOrder } from '../api/client'
import StateNote from '../components/StateNote.vue'
import StepList from '../syncs/StepList.vue'
import SyncHistory from '../syncs/SyncHistory.vue'
import WhenMark from '../components/WhenMark.vue'

// Which records of other systems an order is, and what would make them what it says.
const props = defineProps<{ order: StoredOrder }>()
const cache = useQueryClient()
const { data: systems } = useQuery({ queryKey: ['systems'], queryFn: () => data(api.GET('/api/v1/systems')) })
const writes = computed(() =>
  (systems.value?.items ?? []).flatMap((y) => (y.writes ?? []).map((record) => ({ system: y.name, record }))),
)
const link = (w: { system: string; record: string }) =>
  props.order.links?.find((l) => l.system === w.system && l.record === w.record && !l.part)
const push = useMutation({
  mutationFn: (w: { system: string; record: string; dry: boolean }) =>
    data(
      api.POST('/api/v1/systems/{name}/pushes', {
        params: { path: { name: w.system } },
        body: { record: w.record, order: String(props.order.id), dry_run: w.dry },
      }),
    ),
  onSuccess: (_, w) => {
    if (!w.dry) void cache.invalidateQueries({ queryKey: ['order'] })
  },
})
const plan = computed(() => push.data.value)
const story = ref(false)
const says = computed(() => {
  const p = plan.value
  if (!p) return ''
  if (p.why?.length)
    return p.state === 'away' ? 'It waits, because the system does not answer:' : 'It cannot be made right:'
  if (!p.steps.length) return 'It is right; there is nothing to do.'
  return p.state === 'planned'
    ? p.key
      ? 'It would be made right by:'
      : 'It is not there yet, and would be made by:'
    : 'It is right now, by:'
})
</script>

<template>
  <section v-if="writes.length || order.links?.length" class="events" aria-label="In other systems">
    <h2>In other systems</h2>
    <ol>
      <li v-for="w in writes" :key="`${w.system} ${w.record}`">
        <RouterLink :to="`/systems/${w.system}`">{{ w.system }}</RouterLink>: {{ w.record }}
        <template v-if="link(w)">{{ link(w)!.number || link(w)!.key }}, <span
          class="soft">{{ link(w)!.revision ? `agreed at revision ${link(w)!.revision}` : 'not right there yet' }},
          <WhenMark :at="link(w)!.at" />
          </span>
        </template>
        <span v-else class="soft">not there yet</span>
        <Button
          size="small" text label="Compare" :aria-label="`Compare with ${w.system} ${w.record}`"
          :loading="push.isPending.value && push.variables.value?.dry && push.variables.value?.record === w.record"
          @click="push.mutate({ ...w, dry: true })" />
      </li>
      <li
        v-for="l in (order.links ?? []).filter((l) => l.part || !writes.some((w) => w.system === l.system && w.record === l.record))"
        :key="`${l.system} ${l.record} ${l.part}`">
        <RouterLink :to="`/systems/${l.system}`">{{ l.system }}</RouterLink>:
          {{ l.record }} {{ l.number || l.key }}</li>
    </ol>
    <StateNote v-if="push.error.value" :error="push.error.value" @retry="push.reset()" />
    <div v-else-if="plan" class="plan" role="status">
      <p>{{ plan.system }} {{ plan.record }} {{ plan.number || plan.key }}: {{ says }}</p>
      <StepList :steps="plan.steps" />
      <p v-for="w in plan.why" :key="w" class="why">{{ w }}</p>
      <Button
        v-if="plan.state === 'planned' && plan.steps.length" size="small" label="Do it" :loading="push.isPending.value"
        @click="push.mutate({ system: plan.system, record: plan.record, dry: false })" />
    </div>
    <details v-if="order.links?.length" @toggle="story = ($event.target as HTMLDetailsElement).open">
      <summary>What was written there</summary>
      <SyncHistory v-if="story" :order="order.id" />
    </details>
  </section>
</template>

<style scoped>
ol {
  margin: 6px 0 0;
  padding: 0;
  list-style: none;
}
.plan {
  padding: 8px 12px;
  background: var(--desk);
  border-radius: 3px;
}
.plan p {
  margin: 0 0 6px;
}
.why {
  color: var(--warning);
}
</style>
