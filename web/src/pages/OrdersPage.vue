<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, data, download } from '../api/client'
import { useBusy } from '../busy'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import PagedTable from '../components/PagedTable.vue'
import { money } from '../format'
import { usePages } from '../paging'

const route = useRoute()
const router = useRouter()
const text = ref(String(route.query.text ?? ''))
const kind = ref(String(route.query.kind ?? 'any'))
const status = ref(String(route.query.status ?? 'any'))
const fromLoad = computed(() => Number(route.query.load ?? 0))
watch([text, kind, status, fromLoad], () => {
  trail.value = []
  void router.replace({ query: Object.fromEntries(Object.entries({ text: text.value, kind: kind.value, status: status.value, load: fromLoad.value || '' }).filter(([, v]) => v !== '' && v !== 'any')) })
})
const { trail, page, error, isPending, refetch } = usePages('orders', [text, kind, status, fromLoad], (cursor) =>
    data(api.GET('/api/v1/orders', {
      params: { query: { text: text.value || undefined, kind: (kind.value === 'any' ? undefined : kind.value) as 'sales' | undefined, status: (status.value === 'any' || status.value === 'overdue' ? undefined : status.value) as 'open' | undefined, overdue: status.value === 'overdue' || undefined, load: fromLoad.value || undefined, limit: 20, cursor } },
    })),
)
const { busy, failed, act } = useBusy()
/** save downloads the orders of the filter as a table: all of them, not only the page. */
const save = (format: string) =>
  act(format, () => download(`/api/v1/orders/export?${new URLSearchParams(Object.entries({ format, text: text.value, kind: kind.value, ...(status.value === 'overdue' ? { overdue: 'true' } : { status: status.value }), load: fromLoad.value ? String(fromLoad.value) : '' }).filter(([, v]) => v !== '' && v !== 'any'))}`))
const kinds = [{ label: 'Sales and purchases', value: 'any' }, { label: 'Sales', value: 'sales' }, { label: 'Purchases', value: 'purchase' }]
const states = [{ label: 'Any state', value: 'any' }, { label: 'overdue', value: 'overdue' }, ...['draft', 'open', 'confirmed', 'partial', 'complete', 'cancelled'].map((s) => ({ label: s, value: s }))]
const filtered = computed(() => text.value !== '' || kind.value !== 'any' || status.value !== 'any' || fromLoad.value > 0)
function clear() {
  text.value = ''
  kind.value = status.value = 'any'
  void router.replace({ query: {} })
}
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Orders</h1>
      <span v-if="fromLoad" class="soft">of load {{ fromLoad }}</span>
      <span class="grow" />
      <InputText v-model="text" size="small" placeholder="Number or partner …" aria-label="Number or partner begins with" />
      <Select v-model="kind" size="small" :options="kinds" option-label="label" option-value="value" aria-label="Kind" />
      <Select v-model="status" size="small" :options="states" option-label="label" option-value="value" aria-label="State" />
      <Button v-if="filtered" size="small" text label="Show all" @click="clear" />
      <Button v-if="page?.items.length" size="small" outlined label="As a workbook" :loading="busy === 'xlsx'" @click="save('xlsx')" />
      <Button v-if="page?.items.length" size="small" text label="As CSV" :loading="busy === 'csv'" @click="save('csv')" />
    </div>
    <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
    <PagedTable v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="id" :empty="filtered ? 'No order fits what was asked for.' : 'No order has been loaded yet.'" @open="router.push(`/orders/${$event.id}`)" @retry="refetch()">
      <Column header="Number"><template #body="{ data: o }"><RouterLink :to="`/orders/${o.id}`" @click.stop>{{ o.number }}</RouterLink></template></Column>
      <Column header="Kind"><template #body="{ data: o }">{{ o.kind }}</template></Column>
      <Column header="Partner"><template #body="{ data: o }">{{ o.partner }}</template></Column>
      <Column header="Their number"><template #body="{ data: o }">{{ o.sender_number }}</template></Column>
      <Column header="Ordered"><template #body="{ data: o }">{{ o.ordered_on }}</template></Column>
      <Column header="Deliver"><template #body="{ data: o }">{{ o.requested_delivery_on }}</template></Column>
      <Column header="Lines" class="right"><template #body="{ data: o }">{{ o.lines }}</template></Column>
      <Column header="Total" class="right"><template #body="{ data: o }">{{ money(o.total) }} <span class="soft">{{ o.currency }}</span></template></Column>
      <Column header="State"><template #body="{ data: o }"><OutcomeMark :word="o.status" /></template></Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.title { margin-bottom: 10px; }
</style>
