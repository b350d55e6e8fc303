<script setup lang="ts">
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, download } from '../api/client'
import OrderPaper from '../components/OrderPaper.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import SegmentList from '../components/SegmentList.vue'
import StateNote from '../components/StateNote.vue'
import TabStrip from '../components/TabStrip.vue'
import { decidedOf } from '../exchange/asked'
import AskedChanges from '../exchange/AskedChanges.vue'
import SetList from '../exchange/SetList.vue'
import { fieldName, interchangeWord } from '../format'
import { Places, type Spot } from '../places'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ id: number; first?: number }>()
const mostTabs = 12
const client = useQueryClient()
const router = useRouter()
const {
  data: it,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['interchange', () => props.id],
  queryFn: () => data(api.GET('/api/v1/interchanges/{id}', { params: { path: { id: props.id } } })),
})
// Its sets are tabs; of many, a list from which one is chosen.
const many = computed(() => (it.value?.set_count ?? 0) > mostTabs)
const seq = ref(props.first ?? 1)
const from = ref(1) // the first segment that is shown
let opened = 0
watch(it, (i) => {
  if (!i || i.id === opened) return
  opened = i.id
  seq.value = props.first ?? i.sets?.find((s) => s.state === 'held' || s.state === 'rejected')?.seq ?? 1
  from.value = 1
})
const known = computed(() => it.value?.sets?.find((s) => s.seq === seq.value))
const { data: fetched } = useQuery({
  queryKey: ['set', () => props.id, seq],
  enabled: computed(() => !!it.value && !known.value && seq.value <= (it.value.set_count ?? 0)),
  queryFn: async () => {
    const page = await data(
      api.GET('/api/v1/interchanges/{id}/sets', {
        params: { path: { id: props.id }, query: { cursor: String(seq.value - 1), limit: 1 } },
      }),
    )
    return page.items[0] ?? null
  },
})
const set = computed(() => known.value ?? fetched.value ?? undefined)
const setOf = (n: number) => it.value?.sets?.find((s) => s.seq === n)
const setTabs = computed(() =>
  many.value ? [] : (it.value?.sets ?? []).map((s) => ({ id: s.seq, label: `${s.kind} ${s.control}` })),
)

// Its segments, from the beginning, or of a long one from where they are looked at.
const atOnce = 2000
const context = 20 // segments before the one that is looked at
const {
  data: segments,
  error: segmentError,
  isFetching: reads,
} = useQuery({
  queryKey: ['segments', () => props.id, from],
  queryFn: () =>
    data(
      api.GET('/api/v1/interchanges/{id}/segments', {
        params: { path: { id: props.id }, query: { from: from.value, limit: atOnce } },
      }),
    ),
  placeholderData: keepPreviousData,
})
const spoken = computed(() => set.value?.orders?.filter((o) => o.order_id) ?? []) // the stored orders of which the set speaks
const { data: papers } = useQuery({
  queryKey: ['set-orders', () => props.id, seq],
  enabled: computed(() => !!it.value?.sets?.length),
  queryFn: () =>
    data(
      api.GET('/api/v1/interchanges/{id}/sets/{seq}/orders', { params: { path: { id: props.id, seq: seq.value } } }),
    ),
})
const pointed = ref<Spot>() // by the paper, for the segments
const picked = ref<Spot>() // in the segments, for the paper
const list = ref<InstanceType<typeof SegmentList>>()
const wanted = ref<Spot>() // where the segments are to go when they are there
/** show goes to a segment, or to an element of it, and reads what is around it where that is not shown yet. */
function show(row: number, column = 0) {
  wanted.value = { row, column }
  const end = Number(segments.value?.next ?? Infinity)
  if (row < from.value || row >= end) from.value = Math.max(1, row - context)
  void arrive()
}
async function arrive() {
  await nextTick()
  if (!wanted.value || !segments.value || reads.value) return
  void list.value?.goTo(wanted.value.row, wanted.value.column)
  wanted.value = undefined
}
watch([segments, reads], arrive)
watch(
  [set, () => !!segments.value],
  ([s, there], [was]) => {
    if (s && there && (s.seq !== was?.seq || !wanted.value)) show(s.row || 1)
  },
  { immediate: true },
)

// What became of the element that was chosen.
const became = computed(() => {
  const s = picked.value
  if (!s) return ''
  const fields = (papers.value?.items ?? [])
    .flatMap((p) => new Places(p.places).at(s))
    .map((l) => (l.line ? `${fieldName(l.field!)} of line ${l.line}` : fieldName(l.field!)))
  return fields.length ? `It is ${fields.join(' and ')}.` : 'It is not used in this order.'
})

// What holds its sets and can be accepted: warnings and broken rules of the partner, where nothing else holds them.
const warnings = computed(() => {
  const all = (it.value?.sets ?? []).filter((s) => s.state === 'held').flatMap((s) => s.findings ?? [])
  const rules = all.some((f) => f.code === 'x12_rule' && f.severity === 'error') ? ['x12_rule'] : []
  const others = all.filter((f) => !f.code.startsWith('x12_'))
  return others.some((f) => f.severity === 'error')
    ? []
    : [...new Set([...rules, ...others.map((f) => f.code as string)])]
})

// Whether the partner has rejected it, or a part of it.
const refused = computed(() => it.value?.state === 'rejected' || it.value?.state === 'partly')

// The interchange that came before with the same control number.
const other = (f: { code: string; message: string }) =>
  f.code === 'control_number_used' || f.code === 'x12_duplicate' ? /interchange (\d+)/.exec(f.message)?.[1] : undefined

const act = useMutation({
  mutationFn: (what: 'resend' | 'renumber' | 'replay' | 'accept' | 'settle' | 'let-in' | 'refuse') =>
    what === 'replay' || what === 'accept'
      ? data(
          api.POST('/api/v1/interchanges/{id}/replay', {
            params: { path: { id: props.id }, query: what === 'accept' ? { accept: warnings.value } : {} },
          }),
        )
      : data(api.POST(`/api/v1/interchanges/{id}/${what}`, { params: { path: { id: props.id } } })),
  onSuccess: async (done, what) => {
    if (what === 'renumber') await router.push(`/exchange/${done.id}`)
    return client.invalidateQueries()
  },
})
const send = useMutation({
  mutationFn: () =>
    data(
      api.POST('/api/v1/partners/{name}/send', {
        params: { path: { name: it.value!.partner } },
        body: { set: set.value!.kind, orders: (set.value!.orders ?? []).map((o) => o.number ?? '') },
      }),
    ),
  onSuccess: async (sent) => {
    // what was held is gone; what was written instead has a page of its own
    if (sent.interchanges[0]) await router.replace(`/exchange/${sent.interchanges[0].id}`)
    return client.invalidateQueries()
  },
})
const next = computed(() => send.data.value?.interchanges[0])
// Errors first; what the acknowledgement notes of a value that an error speaks of is said by that.
const asks = computed(
  () => it.value?.direction === 'in' && set.value?.state === 'held' && set.value.findings?.some((f) => f.code === 'change_asked'),
)
const found = computed(() => {
  const all = [...(it.value?.findings ?? []), ...(set.value?.findings ?? [])].filter((f) => f.code !== 'change_asked' || !asks.value)
  const errors = all.filter((f) => f.severity === 'error')
  return [
    ...errors,
    ...all.filter((f) => f.severity !== 'error' && !(f.code === 'x12_noted' && errors.some((e) => e.at === f.at))),
  ]
})
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else-if="it">
      <div class="bar">
        <h1>{{ it.kinds || 'Interchange' }} {{ it.direction === 'in' ? 'from' : 'to' }} {{ it.partner || 'an unknown sender' }}</h1>
        <OutcomeMark :word="interchangeWord(it)" /> <b v-if="it.test"
          title="Its sender marks it as a test: it touches no order">test</b>
        <span class="soft">{{ it.control ? `control ${String(it.control).padStart(9, '0')}, ` : '' }}<WhenMark
          :at="it.at" />
          <template v-if="it.answers">, answers <RouterLink
            :to="`/exchange/${it.answers}`">{{ it.answers }}</RouterLink>
          </template>
          <template v-if="it.acknowledged_at">, acknowledged <WhenMark :at="it.acknowledged_at" /></template>
          <template v-if="it.accepted_by">, {{ it.accept?.join(', ') }} accepted by {{ it.accepted_by }}</template>
          <template v-if="it.ruling">, {{ it.ruling === 'let_in' ? 'let in' : it.ruling }} by
            {{ it.ruled_by }}</template>
          <template v-else-if="it.due_at">, to be acknowledged by <WhenMark plain :at="it.due_at" /></template>
        </span>
        <span class="grow" />
        <template v-if="it.state === 'doubtful'">
          <Button
            size="small" label="Let it in" title="It is new: read it, acknowledge it, and do what it asks for"
            :loading="act.isPending.value" @click="act.mutate('let-in')" />
          <Button
            size="small" outlined severity="danger" label="Refuse it"
            title="Tell its sender that the control number came before" :loading="act.isPending.value"
            @click="act.mutate('refuse')" />
        </template>
        <Button
          v-if="it.direction === 'in' && it.state === 'held' && warnings.length" size="small" label="Accept and replay"
          title="Do what it asks for although it differs" :loading="act.isPending.value"
          @click="act.mutate('accept')" />
        <Button
          v-if="it.direction === 'in' && (it.state === 'held' || it.state === 'unknown')" size="small" label="Replay"
          title="Do once more what it asks for, after the cause was fixed" :loading="act.isPending.value"
          @click="act.mutate('replay')" />
        <Button
          v-if="(it.direction === 'in' ? it.state === 'held' : refused) && !it.ruling" size="small" text label="Settled"
          :title="it.direction === 'in' ? 'You have dealt with it: it is answered from the orders as they are now'
            : 'You have settled with the partner what it rejected: it needs no attention any more'"
          :loading="act.isPending.value" @click="act.mutate('settle')" />
        <Button
          v-if="it.direction === 'out' && (it.state === 'held' || set?.state === 'rejected')" size="small"
          :label="it.state === 'held' ? 'Try again' : 'Send again'"
          title="Write it again from the order as it is now" :loading="send.isPending.value" @click="send.mutate()" />
        <Button
          v-if="it.direction === 'out' && it.control" size="small" outlined label="Resend"
          title="The same bytes under the same control number" :loading="act.isPending.value"
          @click="act.mutate('resend')" />
        <Button
          v-if="it.direction === 'out' && it.control && it.state !== 'ready'" size="small" text
          label="Resend with new numbers"
          title="A copy under new control numbers, for a partner whose program skips numbers that it has seen"
          :loading="act.isPending.value" @click="act.mutate('renumber')" />
        <Button size="small" text label="Download" @click="download(`/api/v1/interchanges/${id}/content`)" />
      </div>
      <StateNote
        v-if="act.error.value || send.error.value" :error="act.error.value || send.error.value"
        @retry="act.reset(), send.reset()" />
      <p v-if="it.copy_of || it.copies?.length || (it.departures?.length ?? 0) > 1" class="soft">
        <template v-if="it.copy_of">It repeats what <RouterLink :to="`/exchange/${it.copy_of}`">interchange
          {{ it.copy_of }}</RouterLink> said. </template>
        <template v-for="c in it.copies" :key="c">It was sent under new numbers as <RouterLink
          :to="`/exchange/${c}`">interchange {{ c }}</RouterLink>. </template>
        <template v-if="(it.departures?.length ?? 0) > 1">It left <template v-for="(d, n) in it.departures"
          :key="n">{{ n ? ', ' : '' }}<WhenMark :at="d.at" /> ({{ d.by }})</template>.</template>
      </p>
      <p v-if="next?.id === id" class="soft" role="status">Written again from the order as it is now:
        {{ interchangeWord(next) }}.</p>
      <TabStrip
        v-if="setTabs.length > 1" v-slot="{ tab }" v-model="seq" :tabs="setTabs" panel="set-panel"
        label="Transaction sets">
        {{ tab.label }} <span
          class="soft">{{ setOf(tab.id)?.orders?.map((o) => o.number).join(' ') }}</span> <OutcomeMark
          :word="interchangeWord({ state: setOf(tab.id)!.state, direction: it.direction })" />
      </TabStrip>
      <div class="split" :class="{ many }">
        <SetList v-if="many" v-model="seq" :of="it" panel="set-panel" />
        <SegmentList
          ref="list" class="sheet" :items="segments?.items ?? []" :earlier="from > 1" :later="!!segments?.next"
          :error="segmentError"
          :lit="pointed" :set-row="set?.row" :set-rows="set?.rows" @pick="picked = $event"
          @earlier="show(Math.max(1, from - atOnce))" @later="show(Number(segments!.next))" />
        <div
          id="set-panel" class="side" :role="setTabs.length > 1 ? 'tabpanel' : undefined"
          :aria-labelledby="setTabs.length > 1 ? `set-panel-${seq}` : undefined">
          <section v-if="found.length" class="sheet findings" aria-label="Findings">
            <h2>{{ it.state === 'held' || it.state === 'doubtful' ? 'Why it is held' : 'What was found' }}</h2>
            <ol>
              <li v-for="(f, i) in found" :key="i" :class="f.severity">
                <button v-if="f.place.row" class="at" @click="show(f.place.row!, f.place.column)">{{ f.at }}</button>
                <b v-else-if="f.at">{{ f.at }}</b> {{ f.message }} <RouterLink v-if="other(f)"
                  :to="`/exchange/${other(f)}`">Open interchange {{ other(f) }}</RouterLink> <span
                  v-if="f.severity === 'error'" class="soft">{{ f.hint }} <RouterLink
                  :to="`/docs/findings#${f.code}`">Explained</RouterLink>
                </span>
              </li>
            </ol>
          </section>
          <AskedChanges v-if="asks && set" :id :set @show="show" />
          <p v-if="set?.decided" class="soft links" role="status">{{ decidedOf(set) }}</p>
          <p v-if="spoken.length || set?.load_id" class="soft links">
            <template v-if="spoken.length">It is about <template v-for="(o, n) in spoken"
              :key="n">{{ n ? ', ' : '' }}<RouterLink :to="`/orders/${o.order_id}`">order
              {{ o.number }}</RouterLink>{{ o.order_revision ? ` (revision ${o.order_revision})` : '' }}</template>.
              </template>
            <template v-if="set?.load_id">It came through <RouterLink :to="`/loads/${set.load_id}`">load
              {{ set.load_id }}</RouterLink>. </template>
            <span
              role="status">{{ became || 'Point at a value: its element lights up. Choose an element: see what it became.' }}</span>
          </p>
          <OrderPaper
            v-for="(p, i) in papers?.items ?? []" :key="i" :order="p.order" :places="p.places"
            :findings="p.findings.filter((f) => f.field)" :lit="picked" @point="pointed = $event"
            @pick="(s) => show(s.row, s.column)" />
          <p v-if="papers && !papers.items.length && !found.length" class="soft">It is about no order: it acknowledges
            what was sent.</p>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.side {
  overflow: auto;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.split.many {
  grid-template-columns: 210px minmax(0, 3fr) minmax(340px, 2fr);
}
@media (max-width: 900px) {
  .split.many {
    grid-template-columns: minmax(0, 1fr);
  }
}
.findings {
  padding: 10px 14px;
}
.findings h2 {
  font-size: 14px;
  margin: 0 0 6px;
}
.findings ol {
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  gap: 5px;
  font-size: 13px;
}
.findings li {
  border-left: 3px solid var(--warning);
  padding-left: 8px;
}
.findings li.error {
  border-left-color: var(--error);
}
.at {
  font: inherit;
  font-weight: 600;
  color: var(--accent);
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
.links {
  margin: 0;
}
</style>
