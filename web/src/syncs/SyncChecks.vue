<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'

import { api, data, type SyncCheck } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import StepList from './StepList.vue'
import WhenMark from '../components/WhenMark.vue'

// Dry runs, reconciles and first links: asked for, and what each found.
const props = defineProps<{ name: string }>()
const client = useQueryClient()
const picked = ref<number>()
const {
  data: checks,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['checks', () => props.name],
  queryFn: () =>
    data(api.GET('/api/v1/syncs/{name}/checks', { params: { path: { name: props.name }, query: { limit: 10 } } })),
  refetchInterval: (q) => (q.state.data?.items.some((c) => c.state === 'running') ? 1000 : false),
})
const begin = useMutation({
  mutationFn: (n: { kind: SyncCheck['kind']; repair?: boolean }) =>
    data(api.POST('/api/v1/syncs/{name}/checks', { params: { path: { name: props.name } }, body: n })),
  onSuccess: async (c) => {
    picked.value = c.id
    await client.invalidateQueries({ queryKey: ['checks'] })
  },
})
const shown = computed(() => checks.value?.items.find((c) => c.id === picked.value) ?? checks.value?.items[0])
const { data: rows } = useQuery({
  queryKey: ['check-rows', () => shown.value?.id, () => shown.value?.state, () => shown.value?.counts],
  queryFn: () =>
    data(api.GET('/api/v1/checks/{id}/rows', { params: { path: { id: shown.value!.id }, query: { limit: 100 } } })),
  enabled: () => !!shown.value,
})
const words = {
  load: 'would become new orders here',
  update: 'would change orders here',
  refuse: 'would be refused or held here',
  create: 'would be created there',
  change: 'would be changed there',
  right: 'are right there',
  cannot: 'cannot be written',
  lost: 'are not at the source any more',
  besides: 'are at the target and no orders here',
  link: 'are found there',
  ambiguous: 'may be several records',
  not_there: 'are not there',
  not_tried: 'cannot be tried yet',
  repaired: 'were repaired or linked',
} as const
const figures = computed(() =>
  Object.entries(words).flatMap(([k, word]) => {
    const n = shown.value?.counts[k as keyof typeof words] ?? 0
    return n ? [{ n, word }] : []
  }),
)
</script>

<template>
  <div class="bar acts">
    <Button
      size="small" label="Dry run" :loading="begin.isPending.value && begin.variables.value?.kind === 'dry-run'"
      @click="begin.mutate({ kind: 'dry-run' })" />
    <Button
      size="small" outlined label="Reconcile"
      :loading="begin.isPending.value && begin.variables.value?.kind === 'reconcile' && !begin.variables.value.repair"
      @click="begin.mutate({ kind: 'reconcile' })" />
    <Button size="small" text label="Reconcile and repair" @click="begin.mutate({ kind: 'reconcile', repair: true })" />
    <span class="soft">A dry run says what a run would do. A reconcile compares everything on both sides. Neither writes
      anything unless you ask for a repair.</span>
  </div>
  <StateNote v-if="begin.error.value" :error="begin.error.value" class="sheet" @retry="begin.reset()" />
  <StateNote
    v-if="error || isPending || !shown" :error="error" :loading="isPending" empty="Nothing was compared yet."
    class="sheet" @retry="refetch()" />
  <section v-else class="sheet box">
    <div class="bar">
      <b>{{ { 'dry-run': 'Dry run', reconcile: 'Reconcile', link: 'First link' }[shown.kind] }}{{ shown.repair && shown.kind === 'reconcile' ? ' with repair' : '' }}</b>
      <OutcomeMark :word="shown.state" />
      <span class="soft"><WhenMark :at="shown.started_at" />, by {{ shown.by }}</span>
      <span class="grow" />
      <a v-for="f in ['xlsx', 'csv', 'json']" :key="f"
        :href="`/api/v1/checks/${shown.id}/report?format=${f}`">{{ f.toUpperCase() }}</a>
    </div>
    <p v-if="shown.reason" class="why">{{ shown.reason }}</p>
    <p>{{ shown.counts.records }} records read, {{ shown.counts.orders }} orders compared: <template
      v-for="(f, i) in figures" :key="f.word">
        <template v-if="i">, </template>
        <b>{{ f.n }}</b> {{ f.word }}</template>
      <template v-if="!figures.length">nothing differs</template>.</p>
    <DataTable v-if="rows?.items.length" :value="rows.items" data-key="n">
      <Column header="Outcome">
        <template #body="{ data: r }">{{ r.outcome }}<span v-if="r.repaired" class="soft"> (repaired)</span></template>
      </Column>
      <Column header="Part" field="part" />
      <Column header="Order">
        <template #body="{ data: r }">
          <RouterLink v-if="r.order_id" :to="`/orders/${r.order_id}`">{{ r.order }}</RouterLink>
          <template v-else>{{ r.order || r.key }}</template>
        </template>
      </Column>
      <Column header="What">
        <template #body="{ data: r }">
          <div v-for="(c, i) in r.changes" :key="i">{{ c.line ? `line ${c.line} ` : '' }}{{ c.field }}:
            {{ c.was || 'blank' }} → <b>{{ c.is || 'blank' }}</b>
          </div>
          <StepList :steps="r.steps" /><span v-if="r.why" class="why">{{ r.why }}</span>
        </template>
      </Column>
      <Column header="Changed here last by" field="changed_by" />
    </DataTable>
    <p v-if="rows?.next" class="soft">These are the first hundred; the report has all.</p>
  </section>
  <section v-if="(checks?.items.length ?? 0) > 1" class="earlier">
    <h2>Earlier</h2>
    <ul>
      <li v-for="c in checks!.items" :key="c.id">
        <a href="#" @click.prevent="picked = c.id">
          <WhenMark :at="c.started_at" /> {{ c.kind }}</a> <OutcomeMark :word="c.state" />
      </li>
    </ul>
  </section>
</template>

<style scoped>
.acts {
  margin-bottom: 8px;
}
.box {
  padding: 12px 16px;
}
.box p {
  margin: 8px 0;
}
.why {
  color: var(--warning);
}
.earlier {
  margin-top: 12px;
}
.earlier ul {
  list-style: none;
  padding: 0;
  margin: 6px 0;
}
</style>
