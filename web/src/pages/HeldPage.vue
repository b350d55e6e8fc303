<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import Select from 'primevue/select'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { when } from '../format'
import { usePages } from '../paging'

// Everything that waits for a person, wherever it came from: one list, the
// oldest first, each with its reason and a way to try it again.
const router = useRouter()
const client = useQueryClient()
const kinds = [{ kind: 'order', label: 'orders of documents', one: 'order' }, { kind: 'set', label: 'sets that came', one: 'set that came' }, { kind: 'notice', label: 'notices to send', one: 'notice to send' }] as const
const kind = ref<(typeof kinds)[number]['kind']>()
const { trail, page, error, isPending, refetch } = usePages('held', [kind], (cursor) => data(api.GET('/api/v1/held', { params: { query: { kind: kind.value, limit: 50, cursor } } })))
const retry = useMutation({
  mutationFn: (id: number) => data(api.POST('/api/v1/held/{id}/retry', { params: { path: { id } } })),
  onSuccess: async (r) => {
    await client.invalidateQueries()
    await router.push(r.load ? `/loads/${r.load}` : `/exchange/${r.interchange}`)
  },
})
type Held = NonNullable<typeof page.value>['items'][number]
const target = (h: Held) => (h.interchange ? `/exchange/${h.interchange}` : `/loads/${h.load}?tab=mend`)
const where = (h: Held) => (h.interchange ? `interchange ${h.interchange}, set ${h.set}` : `load ${h.load}, order ${h.load_seq}`)
const word = (h: Held) => kinds.find((k) => k.kind === h.kind)?.one ?? h.kind
</script>

<template>
  <div class="page">
    <div class="bar title">
      <h1>Held</h1><span class="soft">What waits for somebody, the oldest first. Mend the cause, then try it again.</span><span class="grow" />
      <Select v-model="kind" size="small" :options="[...kinds]" option-label="label" option-value="kind" show-clear placeholder="Anything" aria-label="What is held" @change="trail = []" />
    </div>
    <StateNote v-if="retry.error.value" :error="retry.error.value" class="sheet" @retry="retry.reset()" />
    <PagedTable v-model:trail="trail" :page="page" :error="error" :loading="isPending" row-key="id" empty="Nothing is held." @open="router.push(target($event))" @retry="refetch()">
      <Column header="Since"><template #body="{ data: h }"><span class="when">{{ when(h.since) }}</span></template></Column>
      <Column header="What"><template #body="{ data: h }">{{ word(h) }}</template></Column>
      <Column header="Partner" field="partner" />
      <Column header="Order"><template #body="{ data: h }"><RouterLink class="when" :to="target(h)" @click.stop>{{ h.number || 'no number' }}</RouterLink></template></Column>
      <Column header="Where"><template #body="{ data: h }"><span class="soft when">{{ where(h) }}</span></template></Column>
      <Column header="Why"><template #body="{ data: h }">{{ h.reason }}</template></Column>
      <Column header=""><template #body="{ data: h }"><Button size="small" text label="Try again" :aria-label="`Try ${h.number || where(h)} again`" :loading="retry.isPending.value && retry.variables.value === h.id" @click.stop="retry.mutate(h.id)" /></template></Column>
    </PagedTable>
  </div>
</template>

<style scoped>
.title { margin-bottom: 10px; }
.when { white-space: nowrap; }
</style>
