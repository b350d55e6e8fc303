<script setup lang="ts">
import Column from 'primevue/column'
import Select from 'primevue/select'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import LoadState from '../components/LoadState.vue'
import { active, loadWord, when } from '../format'
import { usePages } from '../paging'

const router = useRouter()
const kinds = [{ of: 'documents', label: 'Documents that were sent' }, { of: 'records', label: 'Records of systems' }] as const
const of = ref<(typeof kinds)[number]['of']>()
const { trail, page, error, isPending, refetch } = usePages(
  'loads', [of], (cursor) => data(api.GET('/api/v1/loads', { params: { query: { limit: 20, cursor, of: of.value } } })), (loads) => loads.some(active),
)
const n = (v: number) => (v ? v.toLocaleString('en') : '–')
</script>

<template>
  <div class="page">
    <div class="bar title"><h1>Loads</h1><span class="soft">Runs of documents through mappings, newest first</span><span class="grow" /><Select v-model="of" size="small" :options="[...kinds]" option-label="label" option-value="of" show-clear placeholder="All loads" aria-label="Which loads" @change="trail = []" /></div>
    <PagedTable name="loads" v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="id" empty="Nothing has been loaded yet." @open="router.push(`/loads/${$event.id}`)" @retry="refetch()">
      <template #empty><RouterLink to="/documents">Send a document in</RouterLink></template>
      <Column header="Load"><template #body="{ data: l }"><RouterLink :to="`/loads/${l.id}`" @click.stop>{{ l.id }}</RouterLink></template></Column>
      <Column header="Started"><template #body="{ data: l }"><span class="when">{{ when(l.started_at) }}</span></template></Column>
      <Column header="Document"><template #body="{ data: l }">{{ l.document_name }}<span v-if="l.dry_run" class="soft"> · dry run</span><span v-if="l.step" class="soft"> · step {{ l.step }} of run {{ l.run }}</span><span v-if="l.retry" class="soft"> · what failed in {{ l.retry }}</span></template></Column>
      <Column header="Mapping"><template #body="{ data: l }">{{ l.mapping }} <span class="soft">v{{ l.mapping_version }}</span></template></Column>
      <Column header="State"><template #body="{ data: l }"><LoadState v-if="active(l) || l.status === 'paused'" :load="l" /><OutcomeMark v-else :word="loadWord(l)" /></template></Column>
      <Column header="Orders" class="right"><template #body="{ data: l }">{{ n(l.orders) }}</template></Column>
      <Column header="Good" class="right"><template #body="{ data: l }">{{ n(l.loaded + l.ready) }}</template></Column>
      <Column header="Changed" class="right"><template #body="{ data: l }">{{ n(l.changed + l.differs) }}</template></Column>
      <Column header="Unchanged" class="right"><template #body="{ data: l }">{{ n(l.unchanged) }}</template></Column>
      <Column header="Failed" class="right"><template #body="{ data: l }"><span :class="{ bad: l.refused + l.withheld + l.held }">{{ n(l.refused + l.withheld + l.held) }}</span></template></Column>
      <Column header="Warnings" class="right"><template #body="{ data: l }">{{ n(l.warnings) }}</template></Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.title { margin-bottom: 10px; }
.when { white-space: nowrap; }
.bad { color: var(--error); font-weight: 600; }
</style>
