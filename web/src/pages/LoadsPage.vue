<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PageTurner from '../components/PageTurner.vue'
import StateNote from '../components/StateNote.vue'
import { loadWord, when } from '../format'

const router = useRouter()
const trail = ref<string[]>([])
const cursor = computed(() => trail.value.at(-1))
const { data: page, error, isPending, refetch } = useQuery({
  queryKey: ['loads', cursor],
  queryFn: () => data(api.GET('/api/v1/loads', { params: { query: { limit: 20, cursor: cursor.value } } })),
  refetchInterval: (q) => (q.state.data?.items.some((l) => l.status === 'running') ? 1000 : false),
})
const n = (v: number) => (v ? v.toLocaleString('en') : '–')
</script>

<template>
  <div class="page">
    <div class="bar title"><h1>Loads</h1><span class="soft">Runs of documents through mappings, newest first</span></div>
    <div class="sheet">
      <StateNote v-if="error || isPending || !page?.items.length" :error="error" :loading="isPending" empty="Nothing has been loaded yet." @retry="refetch()"><RouterLink to="/documents">Send a document in</RouterLink></StateNote>
      <template v-else>
        <DataTable :value="page.items" data-key="id" @row-click="router.push(`/loads/${$event.data.id}`)">
          <Column header="Load"><template #body="{ data: l }"><RouterLink :to="`/loads/${l.id}`" @click.stop>{{ l.id }}</RouterLink></template></Column>
          <Column header="Started"><template #body="{ data: l }">{{ when(l.started_at) }}</template></Column>
          <Column header="Document"><template #body="{ data: l }">{{ l.document_name }}<span v-if="l.dry_run" class="soft"> · dry run</span></template></Column>
          <Column header="Mapping"><template #body="{ data: l }">{{ l.mapping }} <span class="soft">v{{ l.mapping_version }}</span></template></Column>
          <Column header="State"><template #body="{ data: l }"><OutcomeMark :word="loadWord(l)" /></template></Column>
          <Column header="Orders" class="right"><template #body="{ data: l }">{{ n(l.orders) }}</template></Column>
          <Column header="Good" class="right"><template #body="{ data: l }">{{ n(l.loaded + l.ready) }}</template></Column>
          <Column header="Unchanged" class="right"><template #body="{ data: l }">{{ n(l.unchanged) }}</template></Column>
          <Column header="Refused" class="right"><template #body="{ data: l }"><span :class="{ bad: l.refused + l.withheld }">{{ n(l.refused + l.withheld) }}</span></template></Column>
          <Column header="Warnings" class="right"><template #body="{ data: l }">{{ n(l.warnings) }}</template></Column>
        </DataTable>
        <PageTurner v-if="page.next || trail.length" v-model="trail" :next="page.next" />
      </template>
    </div>
  </div>
</template>

<style scoped>
.title { margin-bottom: 10px; }
.bad { color: var(--error); font-weight: 600; }
</style>
