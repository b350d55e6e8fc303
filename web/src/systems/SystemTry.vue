<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, sendText, type System, type Tried } from '../api/client'
import StateNote from '../components/StateNote.vue'

// Reads a page of a kind of record, says what the description finds in it, and hands it
// to the mapping editor.
const props = defineProps<{ system: System }>()
const router = useRouter()
const chosen = ref(0)
const attempt = useMutation({
  mutationFn: (asked: { record?: string; fields?: boolean }) =>
    data(api.POST('/api/v1/systems/try', { body: { name: props.system.name, ...asked } })),
  onSuccess: () => {
    chosen.value = 0
  },
})
const tried = computed<Tried | undefined>(() => attempt.data.value)
const says = (f: NonNullable<Tried['fields']>[number]) =>
  [
    f.needed && 'needed',
    f.fixed && 'only at creation',
    f.never && 'read only',
    f.longest && `up to ${f.longest} letters`,
    f.choices?.length && `one of ${f.choices.join(', ')}`,
  ]
    .filter(Boolean)
    .join('; ')
const see = useMutation({
  mutationFn: async (t: Tried) => {
    const lines = (t.shown ?? []).map((text) => text.replace(/\n\s*/g, ' ')).join('\n') // a line each
    return sendText<{ sha: string }>(
      `/api/v1/documents?name=${t.system}-${t.record}-tried.ndjson`,
      'POST',
      'application/octet-stream',
      lines + '\n',
    )
  },
  onSuccess: (doc, t) => router.push(`/documents/${doc.sha}/editor${t.mapping ? `?mapping=${t.mapping}` : ''}`),
})
</script>

<template>
  <section class="sheet box">
    <div class="bar">
      <span>{{ system.folder ? 'Look for files of' : 'Read a page of' }}</span>
      <Button
        v-for="r in system.records" :key="r" size="small" outlined :label="r"
        :loading="attempt.isPending.value && attempt.variables.value?.record === r"
        @click="attempt.mutate({ record: r })" />
      <span>or</span>
      <Button
        size="small" text :label="system.folder ? 'only look for the folder' : 'only sign in'"
        :loading="attempt.isPending.value && !attempt.variables.value?.record" @click="attempt.mutate({})" />
      <span class="soft">Nothing is stored.</span>
    </div>
    <StateNote
      v-if="attempt.error.value || see.error.value" :error="attempt.error.value || see.error.value"
      @retry="attempt.reset(), see.reset()" />
    <template v-else-if="tried">
      <p v-if="tried.why" class="trouble" role="alert">{{ tried.why }}</p>
      <p v-else-if="!tried.record" role="status">{{ tried.folder ? 'The folder is there.' : 'Signed in.' }}</p>
      <DataTable v-else-if="tried.fields" :value="tried.fields" data-key="name">
        <Column header="Field" field="name" />
        <Column header="Of"><template #body="{ data: f }">{{ f.of_line ? 'line' : 'record' }}</template></Column>
        <Column header="Type" field="type" />
        <Column header="What the system says"><template #body="{ data: f }">{{ says(f) }}</template></Column>
      </DataTable>
      <template v-else>
        <DataTable v-if="tried.files" :value="tried.files" data-key="name">
          <Column header="File" field="name" />
          <Column header="Its id" field="file_id" />
          <Column header="Records" class="right" field="records" />
          <Column header="What becomes of it">
            <template
              #body="{ data: f }">{{ f.waits ? `waits: ${f.waits}` : f.wrong ? `would be refused: ${f.wrong}` : 'would be taken' }}</template>
          </Column>
        </DataTable>
        <div class="bar">
          <span
            role="status">{{ tried.found?.length ?? 0 }} {{ tried.record }} {{ tried.found?.length === 1 ? 'record' : 'records' }} {{ tried.files ? 'in the files that could be taken' : 'on the first page' }}{{ tried.more ? ', and the list goes on' : '' }}.</span>
          <span class="grow" />
          <Button
            v-if="tried.tells" size="small" text label="What it says of their fields"
            @click="attempt.mutate({ record: tried.record, fields: true })" />
          <Button
            v-if="tried.found?.length" size="small"
            :label="tried.mapping ? `See them through ${tried.mapping}` : 'Draft a mapping for them'"
            :loading="see.isPending.value" @click="see.mutate(tried)" />
        </div>
        <div v-if="tried.found?.length" class="two">
          <DataTable
            :value="tried.found" data-key="place" scrollable scroll-height="430px"
            :row-class="(f: { place: string }) => (tried?.found?.[chosen]?.place === f.place ? 'chosen' : '')"
            @row-click="chosen = $event.index">
            <Column header="Key">
              <template #body="{ data: f, index }">
                <button class="plain" @click.stop="chosen = index">{{ f.key }}</button>
              </template>
            </Column>
            <Column header="Number" field="number" />
            <Column header="Stamp" field="stamp" />
            <Column header="Lines" class="right">
              <template #body="{ data: f }">{{ f.lines }}<span v-if="f.expected"> of {{ f.expected }}</span></template>
            </Column>
            <Column header="Withdrawn"><template #body="{ data: f }">{{ f.gone ? 'yes' : '' }}</template></Column>
          </DataTable>
          <pre class="raw" aria-label="The chosen record">{{ tried.shown?.[chosen] }}</pre>
        </div>
      </template>
      <details v-if="tried.calls.length">
        <summary>{{ tried.calls.length === 1 ? 'The call' : `The ${tried.calls.length} calls` }} and what came</summary>
        <div v-for="(c, i) in tried.calls" :key="i" class="call"><b>{{ c.method }}</b> {{ c.url }} <b>{{ c.status || 'no answer' }}</b> <span class="soft">{{ c.bytes }} bytes, {{ c.millis }} ms {{ c.why }}</span><pre>{{ c.answer }}</pre></div>
      </details>
    </template>
  </section>
</template>

<style scoped>
.box {
  padding: 12px 16px;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 14px;
}
.raw {
  margin: 0;
  padding: 8px 12px;
  max-height: 430px;
  overflow: auto;
  background: var(--desk);
  font-size: 12px;
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
.trouble {
  margin: 0;
  color: var(--error);
}
.call pre {
  max-height: 160px;
  overflow: auto;
  background: var(--desk);
  padding: 6px 10px;
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
:deep(tr.chosen) {
  background: var(--accent-wash);
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
