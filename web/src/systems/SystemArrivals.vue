<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'

import { api, data, download, type Arrival } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import StateNote from '../components/StateNote.vue'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string }>()
const key = ref('')
const open = ref<Arrival>()
const name = computed(() => props.name)
const list = usePages('arrivals', [name, key], (cursor, limit) =>
  data(
    api.GET('/api/v1/arrivals', {
      params: { query: { system: name.value, key: key.value.trim() || undefined, limit, cursor } },
    }),
  ),
)
const { trail } = list
const content = useQuery({
  queryKey: ['arrival', computed(() => open.value?.id)],
  enabled: computed(() => !!open.value),
  queryFn: () =>
    data(api.GET('/api/v1/arrivals/{id}/content', { params: { path: { id: open.value!.id } }, parseAs: 'text' })),
})
const word = (a: Arrival) => (a.state === 'gone' ? 'withdrawn' : a.state)
</script>

<template>
  <div class="bar filters">
    <InputText
      v-model="key" size="small" placeholder="Key or number" aria-label="Key or number of the record"
      @update:model-value="trail = []" />
    <span class="soft">Records as they arrived, newest first. Each is kept for 90 days.</span>
  </div>
  <section v-if="open" class="sheet box" aria-label="An arrival">
    <div class="bar">
      <h2>Arrival {{ open.id }}: {{ open.record }} {{ open.number || open.key }}</h2>
      <span class="grow" />
      <Button size="small" text label="Save it" @click="download(`/api/v1/arrivals/${open.id}/content`)" />
      <Button size="small" text label="Close" @click="open = undefined" />
    </div>
    <p class="soft">It stood at <b>{{ open.place || 'the whole answer' }}</b> of what <b>{{ open.request }}</b> answered
      on <WhenMark plain :at="open.at" />
      <template v-if="open.load">; <RouterLink :to="`/loads/${open.load}`">load {{ open.load }}</RouterLink> took it, as
        line {{ open.line }} of <RouterLink :to="`/documents/${open.document}`">its document</RouterLink>
      </template>
      <template v-else>; no order was made of it</template>.</p>
    <StateNote
      v-if="content.error.value || content.isPending.value" :error="content.error.value"
      :loading="content.isPending.value" @retry="content.refetch()" />
    <pre v-else>{{ content.data.value }}</pre>
  </section>
  <PagedTable :list="list" row-key="id" empty="Nothing of that kind has arrived." @open="open = $event">
    <Column header="Arrival">
      <template #body="{ data: a }"><button class="plain" @click.stop="open = a">{{ a.id }}</button></template>
    </Column>
    <Column header="Came">
      <template #body="{ data: a }"><span class="when"><WhenMark :at="a.at" /></span></template>
    </Column>
    <Column header="Record" field="record" />
    <Column header="Number"><template #body="{ data: a }">{{ a.number || a.key }}</template></Column>
    <Column header="Stamp" field="stamp" />
    <Column header="State"><template #body="{ data: a }"><OutcomeMark :word="word(a)" /></template></Column>
    <Column header="Pull" class="right" field="pull" />
    <Column header="Load" class="right">
      <template #body="{ data: a }">
        <RouterLink v-if="a.load" :to="`/loads/${a.load}`" @click.stop>{{ a.load }}</RouterLink>
      </template>
    </Column>
  </PagedTable>
</template>

<style scoped>
.filters {
  margin: 8px 0;
}
.box {
  padding: 10px 16px;
  margin-bottom: 10px;
}
.box p {
  margin: 4px 0 8px;
  overflow-wrap: anywhere;
}
pre {
  margin: 0;
  padding: 8px 12px;
  max-height: 300px;
  overflow: auto;
  background: var(--desk);
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.when {
  white-space: nowrap;
}
.plain {
  font: inherit;
  color: var(--accent);
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
</style>
