<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'

import { api, data, type Delivery, type Subscription } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

// The messages to one who is told.
const props = defineProps<{ subscription: Subscription }>()
const cache = useQueryClient()
const name = computed(() => props.subscription.name)
const state = ref<'waiting' | 'delivered' | 'failed'>()
const body = ref<Delivery>()
const list = usePages('deliveries', [name, state], (cursor, limit) =>
  data(
    api.GET('/api/v1/subscriptions/{name}/deliveries', {
      params: { path: { name: name.value }, query: { state: state.value, limit, cursor } },
    }),
  ),
)
const { trail, refetch } = list
watch(name, () => {
  trail.value = []
  body.value = undefined
})
const path = () => ({ params: { path: { name: name.value } } })
const onSuccess = () => Promise.all([cache.invalidateQueries({ queryKey: ['subscriptions'] }), refetch()])
const set = useMutation({
  mutationFn: (active: boolean) =>
    data(
      active
        ? api.POST('/api/v1/subscriptions/{name}/resume', path())
        : api.POST('/api/v1/subscriptions/{name}/pause', path()),
    ),
  onSuccess,
})
const resend = useMutation({
  mutationFn: (r: { ids?: number[]; failed?: boolean }) =>
    data(api.POST('/api/v1/subscriptions/{name}/resend', { ...path(), body: r })),
  onSuccess,
})
</script>

<template>
  <section class="messages" aria-label="Messages">
    <div class="bar">
      <h2>Messages to {{ subscription.name }}</h2>
      <span v-if="subscription.reason" class="soft">{{ subscription.reason }}</span>
      <span class="grow" />
      <Select
        v-model="state" size="small" aria-label="State" placeholder="every state" show-clear
        :options="[{ label: 'waiting', value: 'waiting' }, { label: 'delivered', value: 'delivered' }, { label: 'failed', value: 'failed' }]"
        option-label="label" option-value="value" @update:model-value="trail = []" />
      <Button
        v-if="subscription.counts.failed" size="small" :label="`Send the ${subscription.counts.failed} failed again`"
        :loading="resend.isPending.value" @click="resend.mutate({ failed: true })" />
      <Button
        size="small" outlined :label="subscription.state === 'active' ? 'Pause' : 'Go on now'"
        :loading="set.isPending.value" @click="set.mutate(subscription.state !== 'active')" />
    </div>
    <StateNote
      v-if="set.error.value || resend.error.value" :error="set.error.value || resend.error.value"
      @retry="set.reset(), resend.reset()" />
    <section v-if="body" class="sheet box" aria-label="A message"><div class="bar"><b>{{ body.webhook_id }}</b><span class="soft">{{ body.type }}, {{ count(body.attempts, 'attempt') }}</span><span class="grow" /><Button size="small" text label="Close" @click="body = undefined" /></div><pre>{{ JSON.stringify(JSON.parse(body.body), null, 2) }}</pre></section>
    <PagedTable :list="list" row-key="id" empty="Nothing of that kind has been sent." @open="body = $event">
      <Column header="Message">
        <template #body="{ data: d }"><button class="plain" @click.stop="body = d">{{ d.id }}</button></template>
      </Column>
      <Column header="Event" class="right" field="event" />
      <Column header="Type" field="type" />
      <Column header="State"><template #body="{ data: d }"><OutcomeMark :word="d.state" /></template></Column>
      <Column header="Attempts" class="right" field="attempts" />
      <Column header="Last"><template #body="{ data: d }"><WhenMark :at="d.last_at" /></template></Column>
      <Column header="Next">
        <template #body="{ data: d }"><WhenMark v-if="d.state === 'waiting'" :at="d.due_at" /></template>
      </Column>
      <Column header="Why"><template #body="{ data: d }"><span class="why">{{ d.why }}</span></template></Column>
      <Column>
        <template #body="{ data: d }">
          <Button
            v-if="d.state !== 'waiting'" size="small" text label="Send again"
            @click.stop="resend.mutate({ ids: [d.id] })" />
        </template>
      </Column>
    </PagedTable>
  </section>
</template>

<style scoped>
.messages h2 {
  margin: 0;
}
.messages {
  margin-top: 14px;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.why {
  color: var(--warning);
}
.box {
  padding: 8px 14px;
}
.box pre {
  margin: 6px 0 0;
  font-size: 12px;
  max-height: 260px;
  overflow: auto;
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
