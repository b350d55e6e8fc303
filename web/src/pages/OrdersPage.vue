<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, type OrderSummary } from '../api/client'
import { useBusy } from '../busy'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { money } from '../format'
import ByNumbers from '../orders/ByNumbers.vue'
import ExportPanel from '../orders/ExportPanel.vue'
import ManyActs from '../orders/ManyActs.vue'
import SavedViews from '../orders/SavedViews.vue'
import { kinds, queryOf, states, useWhich } from '../orders/which'
import { usePages } from '../paging'

const router = useRouter()
const { which, narrowed, clear } = useWhich()
const days = ref(!!(which.from || which.to || which.changed))
const query = computed(() => queryOf(which))
const ask = (more: Record<string, unknown>) =>
  data(api.GET('/api/v1/orders', { params: { query: { ...query.value, ...more } as never } }))
const list = usePages('orders', [query], (cursor, limit) => ask({ limit, cursor }))
const { trail, page, refetch } = list
const { busy, failed, act } = useBusy()
const exporting = ref(false)
const byNumbers = ref(false)

// Which orders are chosen, on whichever page they are.
const most = 5000
const chosen = reactive(new Map<number, OrderSummary>())
const orders = computed(() => [...chosen.values()])
const acting = ref(false) // what was done stays to be read when nothing is chosen any more
const choose = (o: OrderSummary, is: boolean) => (is ? chosen.set(o.id, o) : chosen.delete(o.id))
const here = computed(() => page.value?.items ?? [])
const all = computed({
  get: () => here.value.length > 0 && here.value.every((o) => chosen.has(o.id)),
  set: (is) => here.value.forEach((o) => choose(o, is)),
})
const every = () =>
  act('every', async () => {
    let cursor: string | undefined
    do {
      const some = await ask({ limit: 1000, cursor })
      some.items.forEach((o) => chosen.size < most && choose(o, true))
      cursor = some.next
    } while (cursor && chosen.size < most)
  })
watch(query, () => {
  trail.value = []
  chosen.clear()
})
watch(
  () => chosen.size,
  (n) => n && (acting.value = true),
)
async function done() {
  await refetch()
  for (const o of here.value) if (chosen.has(o.id)) chosen.set(o.id, o) // as they are now
}
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Orders</h1>
      <span v-if="which.load" class="soft">of load {{ which.load }}</span>
      <span v-if="which.partner" class="soft">of {{ which.partner }}</span>
      <SavedViews :model-value="which" />
      <span class="grow" />
      <Button
        v-if="page?.items.length && !exporting" size="small" outlined label="Export …" @click="exporting = true" />
    </div>
    <div class="bar title" role="search">
      <InputText
        v-model="which.text" size="small" placeholder="Number or partner …"
        aria-label="Number or partner begins with" />
      <Select
        :model-value="which.kind || null" size="small" :options="kinds" option-label="label" option-value="value"
        placeholder="Sales and purchases" show-clear aria-label="Kind"
        @update:model-value="which.kind = $event ?? ''" />
      <Select
        :model-value="which.status || null" size="small" :options="states" option-label="label" option-value="value"
        placeholder="Any status" show-clear aria-label="Status" @update:model-value="which.status = $event ?? ''" />
      <template v-if="days">
        <label>Ordered <InputText v-model.lazy="which.from" type="date" size="small"
          aria-label="Ordered on this day or later" />
        </label>
        <label>to <InputText v-model.lazy="which.to" type="date" size="small"
          aria-label="Ordered on this day or earlier" />
        </label>
        <label>Changed since <InputText v-model.lazy="which.changed" type="date" size="small" /></label>
      </template>
      <Button v-else size="small" text label="Days …" :aria-expanded="days" @click="days = true" />
      <Button v-if="!byNumbers" size="small" text label="By numbers …" @click="byNumbers = true" />
      <span class="grow" />
      <Button v-if="narrowed || days" size="small" text label="Show all" @click="(clear(), (days = false))" />
    </div>
    <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
    <ByNumbers
      v-if="byNumbers" :most="most" :chosen="chosen.size" :kind="which.kind" :partner="which.partner" @choose="choose($event, true)"
      @close="byNumbers = false" />
    <ExportPanel
      v-if="exporting" :model-value="which" :ids="orders.map((o) => o.id)" :filter="query"
      @close="exporting = false" />
    <ManyActs v-if="acting" :orders="orders" :refresh="done" @clear="(chosen.clear(), (acting = false))" />
    <PagedTable
      name="orders" :list="list" row-key="id"
      :empty="narrowed ? 'No order fits what was asked for.' : 'No order has been loaded yet.'"
      @open="router.push(`/orders/${$event.id}`)">
      <Column class="tick">
        <template #header><input v-model="all" type="checkbox" aria-label="Choose all orders of this page" /></template>
        <template #body="{ data: o }">
          <input
            type="checkbox" :checked="chosen.has(o.id)" :aria-label="`Choose ${o.number}`" @click.stop
            @change="choose(o, ($event.target as HTMLInputElement).checked)" />
        </template>
      </Column>
      <Column header="Number" sort-field="number">
        <template #body="{ data: o }">
          <RouterLink :to="`/orders/${o.id}`" @click.stop>{{ o.number }}</RouterLink>
        </template>
      </Column>
      <Column header="Kind" sort-field="kind"><template #body="{ data: o }">{{ o.kind }}</template></Column>
      <Column header="Partner" sort-field="partner"><template #body="{ data: o }">{{ o.partner }}</template></Column>
      <Column header="Their number" sort-field="sender_number">
        <template #body="{ data: o }">{{ o.sender_number }}</template>
      </Column>
      <Column header="Ordered" sort-field="ordered_on">
        <template #body="{ data: o }">{{ o.ordered_on }}</template>
      </Column>
      <Column header="Deliver" sort-field="requested_delivery_on">
        <template #body="{ data: o }">{{ o.requested_delivery_on }}</template>
      </Column>
      <Column header="Lines" sort-field="lines" class="right">
        <template #body="{ data: o }">{{ o.lines }}</template>
      </Column>
      <Column header="Total" sort-field="total" class="right">
        <template #body="{ data: o }">{{ money(o.total) }} <span class="soft">{{ o.currency }}</span></template>
      </Column>
      <Column header="Status" sort-field="status">
        <template #body="{ data: o }"><OutcomeMark :word="o.status" /></template>
      </Column>
    </PagedTable>
    <p v-if="all && (page?.next || trail.length)" class="bar">
      <Button
        size="small" text label="Choose all orders that fit, on every page" :loading="busy === 'every'"
        @click="every" />
      <span v-if="chosen.size >= most" class="soft">At most {{ most.toLocaleString('en') }} are chosen at once.</span>
    </p>
  </div>
</template>

<style scoped>
.title {
  margin-bottom: 8px;
}
label {
  color: var(--ink-soft);
  font-size: 13px;
}
</style>
