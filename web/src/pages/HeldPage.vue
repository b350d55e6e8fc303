<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, type HeldFor } from '../api/client'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import { usePages } from '../paging'
import ConflictDialog from '../syncs/ConflictDialog.vue'
import WhenMark from '../components/WhenMark.vue'

// Everything that waits for a person, wherever it came from: first the reasons, then each
// with a way to try it again, one or many at once.
const props = defineProps<{ sync?: string; code?: string }>()
const router = useRouter()
const client = useQueryClient()
const kinds = [
  { kind: 'order', label: 'orders of documents', one: 'order' },
  { kind: 'set', label: 'sets that came', one: 'set that came' },
  { kind: 'notice', label: 'notices to send', one: 'notice to send' },
  { kind: 'interchange', label: 'doubtful interchanges', one: 'doubtful interchange' },
  { kind: 'push', label: 'orders for other systems', one: 'order for a system' },
  { kind: 'answer', label: "suppliers' answers that differ", one: 'answer that differs' },
] as const
const kind = ref<(typeof kinds)[number]['kind']>()
const sync = ref(props.sync)
const code = ref(props.code)
const reason = ref('')
const aside = ref(false)
const filter = computed<HeldFor>(() => ({
  kind: kind.value,
  sync: sync.value,
  code: code.value,
  reason: reason.value || undefined,
  put_aside: aside.value || undefined,
}))
const { data: reasons } = useQuery({
  queryKey: ['held-reasons'],
  queryFn: () => data(api.GET('/api/v1/held-reasons')),
  refetchInterval: 5000,
})
const syncs = computed(() =>
  [...new Set([...(reasons.value?.items ?? []).map((r) => r.sync ?? ''), sync.value ?? ''])].filter(Boolean),
)
const shown = computed(() =>
  (reasons.value?.items ?? []).filter(
    (r) =>
      (!kind.value || r.kind === kind.value) &&
      (!code.value || r.code === code.value) &&
      (!sync.value || r.sync === sync.value),
  ),
)
// Where each thing has a reason of its own, the list itself says it.
const many = computed(() => shown.value.some((r) => r.count > 1) && shown.value.reduce((n, r) => n + r.count, 0) > 5)
const list = usePages(
  'held',
  [filter],
  (cursor, limit) =>
    data(api.GET('/api/v1/held', { params: { query: { ...filter.value, ids: undefined, limit, cursor } } })),
  { size: 50 },
)
const { trail, page } = list
const chosen = ref<number[]>([])
const what = computed<HeldFor>(() => (chosen.value.length ? { ids: chosen.value } : filter.value))
const whatWords = computed(() => (chosen.value.length ? count(chosen.value.length, 'thing') : 'all of these'))
const retry = useMutation({
  mutationFn: (f: HeldFor) => data(api.POST('/api/v1/held/retry', { body: f })),
  onSuccess: async (r) => {
    chosen.value = []
    await client.invalidateQueries()
    if (r.count === 1 && r.load) await router.push(`/loads/${r.load}`)
    else if (r.count === 1 && r.interchange) await router.push(`/exchange/${r.interchange}`)
    setTimeout(() => void client.invalidateQueries(), 1500)
  },
})
const why = ref('')
const put = useMutation({
  mutationFn: () =>
    data(api.POST('/api/v1/held/put-aside', { body: { ...what.value, why: aside.value ? '' : why.value } })),
  onSuccess: async () => {
    chosen.value = []
    why.value = ''
    await client.invalidateQueries()
  },
})
type Held = NonNullable<typeof page.value>['items'][number]
const target = (h: Held) =>
  h.kind === 'push' || h.kind === 'answer'
    ? `/orders/${h.order_id ?? 0}`
    : h.interchange
      ? `/exchange/${h.interchange}${h.set ? `?set=${h.set}` : ''}`
      : `/loads/${h.load}?tab=fix`
const where = (h: Held) =>
  h.kind === 'push'
    ? `${h.sync} → ${h.system}`
    : h.kind === 'answer'
      ? `order ${h.number}`
      : h.interchange
        ? `interchange ${h.interchange}${h.set ? `, set ${h.set}` : ''}`
        : `load ${h.load}, order ${h.load_seq}`
const word = (h: Held) => kinds.find((k) => k.kind === h.kind)?.one ?? h.kind
const deciding = ref<number>()
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Held</h1>
      <span class="soft">Work that waits for a person, oldest first. Fix the cause, then try again.</span>
      <span class="grow" />
      <Button v-if="code" size="small" text label="Show everything held" @click="((code = undefined), (trail = []))" />
      <Select
        v-model="kind" size="small" :options="[...kinds]" option-label="label" option-value="kind" show-clear
        placeholder="Anything" aria-label="What is held" @change="trail = []" />
      <Select
        v-if="syncs.length" v-model="sync" size="small" :options="syncs" show-clear placeholder="Any sync"
        aria-label="Sync" @change="trail = []" />
    </div>
    <section v-if="many && !aside" class="sheet reasons" aria-label="Reasons">
      <button
        v-for="(r, i) in shown.slice(0, 8)" :key="i" type="button" :class="{ on: reason === r.reason }"
        @click="((reason = reason === r.reason ? '' : r.reason), (trail = []))">
        <b>{{ r.count }}</b> {{ r.reason }} <span class="soft">{{ r.sync || r.kind }}</span>
      </button>
      <span v-if="shown.length > 8" class="soft">and {{ count(shown.length - 8, 'further reason') }}</span>
    </section>
    <div class="bar acts">
      <Button
        size="small" :label="`Try ${whatWords} again`" :disabled="!page?.items.length" :loading="retry.isPending.value"
        @click="retry.mutate(what)" />
      <template v-if="!aside">
        <InputText v-model="why" size="small" placeholder="Why it is put aside" aria-label="Why it is put aside" />
        <Button
          size="small" outlined :label="`Put ${whatWords} aside`" :disabled="!why || !page?.items.length"
          :loading="put.isPending.value" @click="put.mutate()" />
      </template>
      <Button
        v-else size="small" outlined :label="`Let ${whatWords} wait again`" :disabled="!page?.items.length"
        @click="put.mutate()" />
      <span class="grow" />
      <label class="soft">
        <Checkbox v-model="aside" binary input-id="aside" @change="trail = []" /> what was put aside</label>
    </div>
    <StateNote
      v-if="retry.error.value || put.error.value" :error="retry.error.value || put.error.value" class="sheet"
      @retry="retry.reset(), put.reset()" />
    <PagedTable
      name="held" :list="list" row-key="id" :empty="aside ? 'Nothing was put aside.' : 'Nothing is held.'"
      @open="router.push(target($event))">
      <Column header="">
        <template #body="{ data: h }">
          <Checkbox v-model="chosen" :value="h.id" :aria-label="`Choose ${h.number || where(h)}`" @click.stop />
        </template>
      </Column>
      <Column header="Since" sort-field="since">
        <template #body="{ data: h }"><span class="when"><WhenMark :at="h.since" /></span></template>
      </Column>
      <Column header="What" :sort-field="word"><template #body="{ data: h }">{{ word(h) }}</template></Column>
      <Column header="Partner" field="partner" />
      <Column header="Order" sort-field="number">
        <template #body="{ data: h }">
          <RouterLink class="when" :to="target(h)" @click.stop>{{ h.number || 'no number' }}</RouterLink>
        </template>
      </Column>
      <Column header="Where" :sort-field="where">
        <template #body="{ data: h }"><span class="soft when">{{ where(h) }}</span></template>
      </Column>
      <Column header="Why" sort-field="reason">
        <template #body="{ data: h }">{{ h.reason }} <RouterLink v-if="h.code" class="soft"
          :to="`/docs/findings#${h.code}`" @click.stop>Explained</RouterLink>
          <div v-if="h.put_aside" class="soft">Put aside: {{ h.put_aside }}</div>
        </template>
      </Column>
      <Column header="">
        <template #body="{ data: h }">
          <Button
            v-if="h.code === 'push_conflict'" size="small" label="Decide" :aria-label="`Decide ${h.number}`"
            @click.stop="deciding = h.id" />
          <Button
            v-else-if="h.kind === 'interchange' || h.kind === 'answer'" size="small" label="Decide"
            :aria-label="`Decide ${where(h)}`" @click.stop="router.push(target(h))" />
          <Button
            v-else size="small" text label="Try again" :aria-label="`Try again: ${h.number || where(h)}`"
            :loading="retry.isPending.value && retry.variables.value?.ids?.[0] === h.id"
            @click.stop="retry.mutate({ ids: [h.id] })" />
        </template>
      </Column>
    </PagedTable>
    <ConflictDialog v-if="deciding" :id="deciding" @close="deciding = undefined" />
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 10px;
}
.when {
  white-space: nowrap;
}
.reasons {
  display: grid;
  gap: 2px;
  padding: 8px 10px;
  margin-bottom: 8px;
}
.reasons button {
  text-align: left;
  background: none;
  border: 0;
  padding: 4px 8px;
  border-radius: 3px;
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.reasons button:hover,
.reasons .on {
  background: var(--desk);
}
.reasons b {
  display: inline-block;
  min-width: 2.5em;
  text-align: right;
  margin-right: 6px;
  color: var(--warning);
}
.acts {
  margin-bottom: 8px;
}
</style>
