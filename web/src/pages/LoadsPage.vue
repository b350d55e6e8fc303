<script setup lang="ts">
import Column from 'primevue/column'
import Select from 'primevue/select'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, type Load } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import LoadState from '../components/LoadState.vue'
import { active, loadWord } from '../format'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const router = useRouter()
const kinds = [
  { of: 'documents', label: 'Documents that were sent' },
  { of: 'records', label: 'Records of systems' },
] as const
const of = ref<(typeof kinds)[number]['of']>()
const list = usePages(
  'loads',
  [of],
  (cursor, limit) => data(api.GET('/api/v1/loads', { params: { query: { limit, cursor, of: of.value } } })),
  { again: (loads) => loads.some(active) },
)
const n = (v: number) => (v ? v.toLocaleString('en') : '–')
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Loads</h1>
      <span class="soft">Runs of documents through mappings, newest first</span>
      <span class="grow" />
      <Select
        v-model="of" size="small" :options="[...kinds]" option-label="label" option-value="of" show-clear
        placeholder="All loads" aria-label="Which loads" @change="list.trail.value = []" />
    </div>
    <PagedTable
      name="loads" :list="list" row-key="id" empty="Nothing has been loaded yet."
      @open="router.push(`/loads/${$event.id}`)">
      <template #empty><RouterLink to="/documents">Upload a document</RouterLink></template>
      <Column header="Load" sort-field="id">
        <template #body="{ data: l }"><RouterLink :to="`/loads/${l.id}`" @click.stop>{{ l.id }}</RouterLink></template>
      </Column>
      <Column header="Started" sort-field="started_at">
        <template #body="{ data: l }"><span class="when"><WhenMark :at="l.started_at" /></span></template>
      </Column>
      <Column header="Document" sort-field="document_name">
        <template #body="{ data: l }">{{ l.document_name }}<span v-if="l.dry_run" class="soft"> · dry run</span>
          <span v-if="l.step" class="soft"> · step {{ l.step }} of run {{ l.run }}</span>
          <span v-if="l.retry" class="soft"> · what failed in {{ l.retry }}</span>
        </template>
      </Column>
      <Column header="Mapping" sort-field="mapping">
        <template #body="{ data: l }">{{ l.mapping }} <span class="soft">v{{ l.mapping_version }}</span></template>
      </Column>
      <Column header="State" :sort-field="loadWord">
        <template #body="{ data: l }">
          <LoadState v-if="active(l) || l.status === 'paused'" :load="l" />
          <OutcomeMark v-else :word="loadWord(l)" />
        </template>
      </Column>
      <Column header="Orders" sort-field="orders" class="right">
        <template #body="{ data: l }">{{ n(l.orders) }}</template>
      </Column>
      <Column header="Good" :sort-field="(l: Load) => String(l.loaded + l.ready)" class="right">
        <template #body="{ data: l }">{{ n(l.loaded + l.ready) }}</template>
      </Column>
      <Column header="Changed" :sort-field="(l: Load) => String(l.changed + l.differs)" class="right">
        <template #body="{ data: l }">{{ n(l.changed + l.differs) }}</template>
      </Column>
      <Column header="Unchanged" sort-field="unchanged" class="right">
        <template #body="{ data: l }">{{ n(l.unchanged) }}</template>
      </Column>
      <Column header="Failed" :sort-field="(l: Load) => String(l.refused + l.withheld + l.held)" class="right">
        <template #body="{ data: l }">
          <span :class="{ bad: l.refused + l.withheld + l.held }">{{ n(l.refused + l.withheld + l.held) }}</span>
        </template>
      </Column>
      <Column header="Warnings" sort-field="warnings" class="right">
        <template #body="{ data: l }">{{ n(l.warnings) }}</template>
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
.bad {
  color: var(--error);
  font-weight: 600;
}
</style>
