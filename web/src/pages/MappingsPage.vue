<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useRouter } from 'vue-router'

import { api, data, type Mapping } from '../api/client'
import StateNote from '../components/StateNote.vue'
import WhenMark from '../components/WhenMark.vue'

const router = useRouter()
const {
  data: page,
  error,
  isPending,
  refetch,
} = useQuery({ queryKey: ['mappings'], queryFn: () => data(api.GET('/api/v1/mappings')) })
const open = (m: Mapping) => router.push(`/mappings/${m.name}`)
</script>

<template>
  <div class="page">
    <div class="bar">
      <h1>Mappings</h1>
      <span class="soft">How each partner's documents become orders. A new one begins in the mapping editor: open a
        document and draft it.</span>
    </div>
    <div class="sheet table">
      <StateNote
        v-if="error || isPending || !page?.items.length" :error="error" :loading="isPending"
        empty="There is no mapping yet. Open a document and choose Mapping editor, or add files with koinos mapping keep FILE …"
        @retry="refetch()" />
      <DataTable v-else :value="page.items" data-key="name" @row-click="open($event.data)">
        <Column header="Mapping">
          <template #body="{ data: m }"><RouterLink :to="`/mappings/${m.name}`">{{ m.name }}</RouterLink></template>
        </Column>
        <Column field="version" header="Version" class="right" />
        <Column field="about" header="About" />
        <Column field="describe" header="What it makes" />
        <Column header="Kept"><template #body="{ data: m }"><WhenMark :at="m.stored_at" /></template></Column>
      </DataTable>
    </div>
  </div>
</template>

<style scoped>
.table {
  margin-top: 12px;
}
</style>
