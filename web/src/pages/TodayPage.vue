<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, defineAsyncComponent } from 'vue'

import { api, data, type Load, type Sync } from '../api/client'
import FirstVisit from '../components/FirstVisit.vue'
import LoadState from '../components/LoadState.vue'
import StateNote from '../components/StateNote.vue'
import { count, interchangeWord, minutes } from '../format'
import WhenMark from '../components/WhenMark.vue'

// The charts' package is only fetched where one is drawn.
const DayChart = defineAsyncComponent(() => import('../components/DayChart.vue'))

// What somebody looks at first in the morning: what runs, what waits for a
// person and why, what the last days brought.
const {
  data: today,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['today'],
  queryFn: () => data(api.GET('/api/v1/today')),
  refetchInterval: (q) => (q.state.data?.running.length ? 1000 : 15000),
})
const { data: reasons } = useQuery({
  queryKey: ['held-reasons'],
  queryFn: () => data(api.GET('/api/v1/held-reasons')),
  refetchInterval: 15000,
})
const { data: syncs } = useQuery({
  queryKey: ['syncs'],
  queryFn: () => data(api.GET('/api/v1/syncs')),
  refetchInterval: 15000,
})
// What partners say of orders, by what a person does about it.
const subjects: Record<string, { word: string; about: string }> = {
  change_asked: {
    word: 'asked for a change',
    about: 'A partner asks for a change: take it or refuse it, line by line.',
  },
  change_out_of_turn: {
    word: 'changed out of turn',
    about: 'A change of a partner comes after a later one: compare the two.',
  },
  answer_differs: {
    word: 'answered differently',
    about: "A supplier's answer is not what was ordered: take what is offered, or call them.",
  },
  invoice_differs: { word: 'billed differently', about: "A supplier's invoice is not what was ordered and came." },
  price_differs: { word: 'billed at another price', about: "A supplier's invoice has other prices than the order." },
  over_invoiced: { word: 'billed for more', about: "A supplier's invoice is for more than came." },
}
const subject = computed(() =>
  Object.entries(subjects).flatMap(([code, s]) => {
    const n = today.value?.held[code] ?? 0
    return n ? [{ code, n, ...s }] : []
  }),
)
// Nobody has loaded anything yet.
const empty = computed(
  () =>
    !!today.value &&
    !today.value.orders &&
    !today.value.running.length &&
    !today.value.failing.length &&
    !today.value.interchanges.length &&
    !today.value.days.some((d) => d.loads),
)
const waiting = computed(() => (reasons.value?.items ?? []).filter((r) => r.kind === 'push'))
const trouble = (y: Sync) =>
  y.state.state === 'paused'
    ? 'paused'
    : y.state.away?.length
      ? `waits for ${y.state.away.join(', ')}, which does not answer`
      : `${count(y.state.unanswered ?? 0, 'file')} not answered in time`
const troubled = computed(() =>
  (syncs.value?.items ?? []).filter((y) => y.state.state === 'paused' || y.state.away?.length || y.state.unanswered),
)
const week = computed(() =>
  today.value?.days.slice(-7).reduce(
    (sum, d) => ({
      loaded: sum.loaded + d.loaded,
      changed: sum.changed + d.changed,
      failed: sum.failed + d.failed,
      saved: sum.saved + d.saved_seconds,
    }),
    { loaded: 0, changed: 0, failed: 0, saved: 0 },
  ),
)
function what(l: Load): string {
  const parts = [
    l.refused && `${l.refused.toLocaleString('en')} refused`,
    l.held && `${l.held.toLocaleString('en')} held`,
    l.withheld && `${l.withheld.toLocaleString('en')} withheld`,
  ].filter(Boolean)
  if (l.status === 'failed') parts.unshift('not read to its end')
  return `${parts.join(', ')} of ${count(l.orders, 'order')}`
}
</script>

<template>
  <div class="page">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" class="sheet" @retry="refetch()" />
    <FirstVisit v-else-if="today && empty" />
    <div v-else-if="today" class="desk">
      <section class="sheet box wide">
        <h2>Needs attention</h2>
        <p v-if="!today.failing.length && !today.interchanges.length && !today.overdue && !subject.length"
          class="soft">Nothing. Every order of the last two weeks is where it should be.</p>
        <ul>
          <li v-if="today.overdue">
            <RouterLink :to="{ path: '/orders', query: { status: 'overdue' } }" class="row">
              <b>{{ today.overdue >= 10000 ? 'More than ' : '' }}{{ count(today.overdue, 'order') }}</b>
              <span class="bad">overdue</span>
              <span class="soft">The day of delivery is past, and nothing has moved.</span>
            </RouterLink>
            <RouterLink :to="{ path: '/orders', query: { status: 'overdue' } }">Show</RouterLink>
          </li>
          <li v-for="s in subject" :key="s.code">
            <RouterLink :to="{ path: '/held', query: { code: s.code } }" class="row">
              <b>{{ count(s.n, 'order') }}</b>
              <span class="bad">{{ s.word }}</span>
              <span class="soft">{{ s.about }}</span>
            </RouterLink>
            <RouterLink :to="{ path: '/held', query: { code: s.code } }">Show</RouterLink>
          </li>
          <li v-for="i in today.interchanges" :key="`i${i.id}`">
            <RouterLink :to="`/exchange/${i.id}`" class="row">
              <b>{{ i.kinds || 'Interchange' }} {{ i.direction === 'in' ? 'from' : 'to' }} {{ i.partner || 'an unknown sender' }}</b>
              <span class="bad">{{ interchangeWord(i) }}</span>
              <span class="soft">{{ i.orders.join(', ') }} · interchange {{ i.id }} of <WhenMark plain :at="i.at" />
              </span>
            </RouterLink>
            <RouterLink :to="`/exchange/${i.id}`">Why</RouterLink>
          </li>
          <li v-for="l in today.failing" :key="l.id">
            <RouterLink :to="`/loads/${l.id}`" class="row">
              <b>{{ l.document_name }}</b>
              <span class="bad">{{ what(l) }}</span>
              <span class="soft">{{ l.mapping }}<template v-if="l.step"> · step {{ l.step }} of run
                {{ l.run }}</template> · load {{ l.id }} of <WhenMark plain :at="l.started_at" /> · {{ l.by }}</span>
            </RouterLink>
            <RouterLink :to="{ path: `/loads/${l.id}`, query: { tab: 'fix' } }">Fix</RouterLink>
          </li>
        </ul>
      </section>
      <section v-if="waiting.length || troubled.length" class="sheet box wide">
        <div class="bar">
          <h2>Orders that other systems wait for</h2>
          <span class="grow" />
          <RouterLink to="/held">All that is held</RouterLink>
        </div>
        <ul>
          <li v-for="y in troubled" :key="y.name">
            <RouterLink :to="`/syncs/${y.name}`" class="reason">
              <b>{{ y.name }}</b>
              <span class="bad">{{ trouble(y) }}</span>
              <span class="soft">
                <template v-if="y.state.counts.waiting">{{ count(y.state.counts.waiting, 'order') }} waiting</template>
              </span>
            </RouterLink>
          </li>
          <li v-for="(r, i) in waiting.slice(0, 6)" :key="i">
            <RouterLink :to="{ path: '/held', query: r.sync ? { sync: r.sync } : {} }" class="reason">
              <b>{{ r.count }} held</b>
              <span>{{ r.reason }}</span>
              <span class="soft">{{ r.sync || r.kind }} · since <WhenMark plain :at="r.since" /></span>
            </RouterLink>
          </li>
        </ul>
      </section>
      <section class="sheet box">
        <h2>Running</h2>
        <p v-if="!today.running.length" class="soft">Nothing is running. <RouterLink to="/documents">Upload a
          document</RouterLink>.</p>
        <ul>
          <li v-for="l in today.running" :key="l.id" class="run">
            <RouterLink :to="`/loads/${l.id}`">{{ l.document_name }}</RouterLink> <span
              class="soft">{{ l.dry_run ? 'dry run' : 'load' }} {{ l.id }}</span>
            <LoadState :load="l" />
          </li>
        </ul>
      </section>
      <section class="sheet box">
        <h2>Typing saved</h2>
        <p class="figure"><b>{{ minutes(week!.saved) }}</b> <span class="soft">in the last seven days</span></p>
        <p class="soft">{{ minutes(today.saved_seconds) }} in all, for {{ count(today.orders, 'stored order') }}. Each
          mapping says how long an order and a line take by hand (<code>orders.by_hand</code>).</p>
      </section>
      <section class="sheet box wide">
        <div class="bar">
          <h2>Orders by day</h2>
          <span class="grow" />
          <span class="key"><i class="good" /> loaded</span>
          <span class="key"><i class="changed" /> changed</span>
          <span class="key"><i class="failed" /> failed</span>
        </div>
        <DayChart :days="today.days" />
      </section>
    </div>
  </div>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
}
.wide {
  grid-column: 1 / -1;
}
.box {
  padding: 14px 16px;
}
.box p {
  margin: 6px 0;
}
.reason {
  display: grid;
  grid-template-columns: minmax(5em, auto) 1fr auto;
  gap: 14px;
  flex: 1;
  color: inherit;
  text-decoration: none;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
}
li {
  display: flex;
  gap: 14px;
  align-items: center;
  border-top: 1px solid var(--rule-soft);
  padding: 6px 0;
}
li.run {
  display: block;
}
li > a:last-child:not(.row, .reason) {
  min-width: 3em;
  text-align: right;
}
.row {
  flex: 1;
  display: grid;
  grid-template-columns: minmax(12em, 2fr) minmax(11em, 1.2fr) 4fr;
  gap: 12px;
  color: inherit;
  text-decoration: none;
}
.row:hover {
  background: var(--accent-wash);
}
.bad {
  color: var(--error);
}
.figure b {
  font: 600 26px var(--serif);
}
i.good {
  background: var(--good);
}
i.changed {
  background: var(--accent);
}
i.failed {
  background: var(--error);
}
.key {
  display: flex;
  align-items: center;
  gap: 5px;
  font-size: 12.5px;
}
.key i {
  width: 10px;
  height: 10px;
}
@media (max-width: 900px) {
  .desk {
    grid-template-columns: 1fr;
  }
  .row {
    grid-template-columns: 1fr;
    gap: 0;
  }
}
</style>
