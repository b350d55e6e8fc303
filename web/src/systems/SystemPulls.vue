<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

import { api, data, type System } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ system: System }>()
const client = useQueryClient()
const record = ref(props.system.records?.includes('order') ? 'order' : props.system.records?.[0])
const mapping = ref<string>()
const name = computed(() => props.system.name)
const list = usePages(
  'pulls',
  [name],
  (cursor, limit) => data(api.GET('/api/v1/pulls', { params: { query: { system: name.value, limit, cursor } } })),
  { again: (items) => items.some((p) => p.state === 'running' || p.state === 'away') },
)
const begin = useMutation({
  mutationFn: (all: boolean) =>
    data(
      api.POST('/api/v1/systems/{name}/pulls', {
        params: { path: { name: name.value } },
        body: { record: record.value ?? '', mapping: mapping.value || undefined, all: all || undefined },
      }),
    ),
  onSuccess: () => client.invalidateQueries({ queryKey: ['pulls'] }),
})
const dry = useMutation({
  mutationFn: () =>
    data(
      api.POST('/api/v1/systems/{name}/pulls/dry-run', {
        params: { path: { name: name.value } },
        body: { record: record.value ?? '', mapping: mapping.value || undefined },
      }),
    ),
})
const tried = computed(() => dry.data.value)
</script>

<template>
  <section class="sheet box">
    <div class="bar">
      <label for="record">Kind of record</label>
      <Select v-model="record" input-id="record" size="small" :options="system.records" />
      <Button size="small" label="Pull what is new" :loading="begin.isPending.value" @click="begin.mutate(false)" />
      <Button size="small" outlined label="Dry run" :loading="dry.isPending.value" @click="dry.mutate()" />
      <Button size="small" text label="Pull everything again" @click="begin.mutate(true)" />
      <span class="soft">Records that have not changed are skipped.</span>
    </div>
    <StateNote
      v-if="begin.error.value || dry.error.value" :error="begin.error.value || dry.error.value"
      @retry="begin.reset(), dry.reset()" />
    <p v-else-if="tried" role="status">
      {{ count(tried.pull.records, 'record') }}, of which {{ tried.pull.unchanged }} known already,
        {{ tried.pull.gone }} withdrawn, {{ tried.pull.short }} not complete.
      <template v-if="tried.load.orders">{{ count(tried.load.orders, 'order') }} would come,
        {{ tried.load.refused + tried.load.withheld }} of them refused.</template>
      <template v-for="r in tried.reasons" :key="r.code">
        <br />
        <b>{{ r.title }}</b> <span class="soft">{{ count(r.count, 'time') }}</span>
      </template>
    </p>
  </section>
  <PagedTable :list="list" row-key="id" empty="Nothing has been pulled yet.">
    <Column header="Pull" field="id" />
    <Column header="When">
      <template #body="{ data: p }"><span class="when"><WhenMark :at="p.started_at" /></span></template>
    </Column>
    <Column header="Record" field="record" />
    <Column header="State"><template #body="{ data: p }"><OutcomeMark :word="p.state" /></template></Column>
    <Column header="Records" class="right" field="records" />
    <Column header="Known" class="right" field="unchanged" />
    <Column header="Withdrawn" class="right" field="gone" />
    <Column header="Loaded" class="right" field="loaded" />
    <Column header="Changed" class="right" field="changed" />
    <Column header="Refused" class="right" field="failed" />
    <Column header="Loads">
      <template #body="{ data: p }">
        <RouterLink v-for="l in p.loads" :key="l" class="load" :to="`/loads/${l}`">{{ l }}</RouterLink>
      </template>
    </Column>
    <Column header="By">
      <template #body="{ data: p }">{{ p.by }}<div v-if="p.reason" class="why">{{ p.reason }}</div></template>
    </Column>
  </PagedTable>
</template>

<style scoped>
.box {
  padding: 10px 16px;
  margin-bottom: 10px;
}
.box p {
  margin: 8px 0 0;
}
.when {
  white-space: nowrap;
}
.load {
  margin-right: 8px;
}
.why {
  color: var(--warning);
}
</style>
