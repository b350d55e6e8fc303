<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import Select from 'primevue/select'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, data, sendText, type Interchange } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { interchangeWord } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const router = useRouter()
const client = useQueryClient()
const route = useRoute()
const partner = ref<string>()
watch(
  () => route.query.partner,
  (name) => (partner.value = name ? String(name) : undefined),
  { immediate: true },
)
const state = ref<string>()
const direction = ref<'in' | 'out'>()
const acknowledgements = ref(false)
const { data: partners } = useQuery({ queryKey: ['partners'], queryFn: () => data(api.GET('/api/v1/partners')) })
const list = usePages('interchanges', [partner, state, direction, acknowledgements], (cursor, limit) =>
  data(
    api.GET('/api/v1/interchanges', {
      params: {
        query: {
          limit,
          cursor,
          partner: partner.value || undefined,
          direction: direction.value,
          speaking: acknowledgements.value || !!state.value ? undefined : true,
          state: state.value as 'held' | undefined,
        },
      },
    }),
  ),
)
const { trail } = list
// What waits for somebody, whatever else is chosen.
const waiting = useQuery({
  queryKey: ['interchanges', 'waiting'],
  refetchInterval: 5000,
  queryFn: async () => {
    const of = (s: 'held' | 'overdue' | 'rejected' | 'unknown' | 'doubtful') =>
      data(api.GET('/api/v1/interchanges', { params: { query: { limit: 100, state: s } } }))
    const [held, overdue, rejected, unknown, doubtful] = await Promise.all([
      of('held'),
      of('overdue'),
      of('rejected'),
      of('unknown'),
      of('doubtful'),
    ])
    return {
      held: held.items.length,
      doubtful: doubtful.items.length,
      overdue: overdue.items.length,
      rejected: rejected.items.length,
      unknown: unknown.items.length,
    }
  },
}).data
const states = [
  'held',
  'doubtful',
  'overdue',
  'rejected',
  'unknown',
  'sent',
  'accepted',
  'noted',
  'partly',
  'done',
  'duplicate',
  'ready',
]

const file = ref<HTMLInputElement>()
const over = ref(false)
const receive = useMutation({
  mutationFn: async (files: File[]) => {
    const all: Interchange[] = []
    for (const f of files)
      all.push(
        ...(
          await sendText<{ items: Interchange[] }>(
            `/api/v1/interchanges?name=${encodeURIComponent(f.name)}`,
            'POST',
            'application/octet-stream',
            f,
          )
        ).items,
      )
    return all
  },
  onSuccess: (all) => {
    void client.invalidateQueries({ queryKey: ['interchanges'] })
    if (all.length === 1) void router.push(`/exchange/${all[0]!.id}`)
  },
})
function take(files: FileList | null | undefined) {
  over.value = false
  if (files?.length) receive.mutate([...files])
}

const saidSets = ref('')
const send = useMutation({
  mutationFn: async (p: { name: string; out: string[] }) => {
    const all: Interchange[] = []
    for (const set of p.out)
      all.push(
        ...(await data(api.POST('/api/v1/partners/{name}/send', { params: { path: { name: p.name } }, body: { set } })))
          .interchanges,
      )
    return all
  },
  onSuccess: (all, p) => {
    const held = all.filter((i) => i.state === 'held').length
    saidSets.value = all.length
      ? `${p.name}: ${all.length - held} sent, ${held} held.`
      : `There is nothing to say to ${p.name} that has not been said.`
    void client.invalidateQueries({ queryKey: ['interchanges'] })
  },
})
</script>

<template>
  <div
    class="page" role="region" aria-label="Exchange" @dragover.prevent="over = true" @dragleave="over = false"
    @drop.prevent.stop="take($event.dataTransfer?.files)">
    <div class="bar title">
      <h1>Exchange</h1><span class="soft">Interchanges with trading partners (X12), newest first</span>
      <span class="grow" />
      <input
        ref="file" type="file" aria-label="An interchange from this computer" multiple hidden
        @change="take(file?.files)" />
      <Button
        size="small" :label="over ? 'Drop it to upload it' : 'Upload a file'" :loading="receive.isPending.value"
        @click="file?.click()" />
    </div>
    <StateNote
      v-if="receive.error.value || send.error.value" :error="receive.error.value || send.error.value"
      @retry="receive.reset(), send.reset()" />
    <div
      v-if="waiting && waiting.held + waiting.doubtful + waiting.overdue + waiting.rejected + waiting.unknown"
      class="sheet waiting" role="status">
      <strong>Needs attention:</strong>
      <button v-for="(n, s) in waiting" v-show="n" :key="s" :class="{ on: state === s }"
        @click="state = state === s ? undefined : s">{{ n }} {{ { held: 'held', doubtful: 'doubtful', overdue: 'not acknowledged in time', rejected: 'rejected', unknown: 'from an unknown sender' }[s] }}</button>
    </div>
    <div v-if="partners?.items.length" class="partners">
      <section v-for="p in partners.items" :key="p.name" class="sheet" :class="{ chosen: partner === p.name }">
        <div class="bar">
          <button class="name" :aria-pressed="partner === p.name"
            @click="partner = partner === p.name ? undefined : p.name">{{ p.name }}</button>
          <span class="grow" />
          <RouterLink to="/docs/x12#partners" class="soft">Explained</RouterLink>
          <Button
            size="small" text label="Send what is due"
            :loading="send.isPending.value && send.variables.value?.name === p.name" @click="send.mutate(p)" />
        </div>
        <div class="soft">{{ p.kind }}, {{ p.them.qualifier }}:{{ p.them.id }}, version
          {{ p.version }}{{ p.usage === 'T' ? ', test' : '' }}</div>
        <div class="soft">they send {{ p.in.join(', ') || 'nothing' }} · we send {{ p.out.join(', ') || 'nothing' }} ·
          answered with {{ p.acknowledge.with }}</div>
      </section>
    </div>
    <StateNote v-else-if="partners" empty="There is no trading partner yet. Add one with koinos partner keep FILE.">
      <RouterLink to="/docs/x12#partners">What a partner's description says</RouterLink>
    </StateNote>
    <div class="bar filters">
      <Select
        v-model="direction" :options="['in', 'out']" show-clear placeholder="In and out" size="small"
        aria-label="Direction" @change="trail = []" />
      <Select
        v-model="state" :options="states" show-clear placeholder="Any state" size="small" aria-label="State"
        @change="trail = []" />
      <label class="check">
        <input v-model="acknowledgements" type="checkbox" @change="trail = []" /> acknowledgements too</label>
      <span class="soft" role="status">{{ saidSets }}</span>
    </div>
    <PagedTable
      name="exchange" :list="list" row-key="id" empty="There are no interchanges of that kind."
      @open="router.push(`/exchange/${$event.id}`)">
      <Column header="No." sort-field="id">
        <template #body="{ data: i }">
          <RouterLink :to="`/exchange/${i.id}`" @click.stop>{{ i.id }}</RouterLink>
        </template>
      </Column>
      <Column header="When" sort-field="at">
        <template #body="{ data: i }"><span class="when"><WhenMark :at="i.at" /></span></template>
      </Column>
      <Column header="Partner" sort-field="partner">
        <template #body="{ data: i }">
          <span
            :title="i.direction === 'in' ? 'came in' : 'went out'">{{ i.direction === 'in' ? '← from' : '→ to' }}</span> {{ i.partner || 'an unknown sender' }}</template>
      </Column>
      <Column header="Sets" sort-field="kinds">
        <template #body="{ data: i }">
          <b>{{ i.kinds || '–' }}</b>
          <span v-if="i.answers" class="soft"> answers {{ i.answers }}</span>
        </template>
      </Column>
      <Column header="Control" sort-field="control" class="right">
        <template #body="{ data: i }">{{ i.control ? String(i.control).padStart(9, '0') : '–' }}</template>
      </Column>
      <Column header="State" :sort-field="interchangeWord">
        <template #body="{ data: i }"><OutcomeMark :word="interchangeWord(i)" /></template>
      </Column>
      <Column header="Orders" :sort-field="(i: Interchange) => i.orders.join(', ')">
        <template #body="{ data: i }">{{ i.orders.join(', ') }}</template>
      </Column>
      <Column header="File" sort-field="name">
        <template #body="{ data: i }"><span class="soft">{{ i.name }}</span></template>
      </Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
.when {
  white-space: nowrap;
}
.waiting {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 14px;
  align-items: baseline;
  padding: 8px 14px;
  margin-bottom: 10px;
  border-left: 4px solid var(--warning);
}
.waiting button,
.name {
  font: inherit;
  background: none;
  border: 0;
  padding: 0;
  color: var(--accent);
  cursor: pointer;
  text-decoration: underline;
}
.waiting button.on {
  font-weight: 600;
}
.partners {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(440px, 1fr));
  gap: 10px;
  margin-bottom: 10px;
}
.partners section {
  padding: 6px 14px 10px;
}
.partners section.chosen {
  outline: 2px solid var(--accent);
}
.partners .name {
  font-weight: 600;
  margin-right: 8px;
}
.check {
  display: flex;
  gap: 6px;
  align-items: center;
}
.filters {
  margin-bottom: 8px;
}
</style>
