<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, data, download, type Options, type RowsOutcome } from '../api/client'
import LoadOptions from '../components/LoadOptions.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import SourceGrid from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import { loadWord, size, when } from '../format'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ sha: string }>()
const route = useRoute()
const router = useRouter()

const {
  data: doc,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['document', () => props.sha],
  queryFn: () => data(api.GET('/api/v1/documents/{document}', { params: { path: { document: props.sha } } })),
})
const { data: mappings } = useQuery({ queryKey: ['mappings'], queryFn: () => data(api.GET('/api/v1/mappings')) })
const { data: sequences } = useQuery({ queryKey: ['sequences'], queryFn: () => data(api.GET('/api/v1/sequences')) })
const choices = computed(() => [
  ...(mappings.value?.items ?? []).map((m) => ({ name: m.name, value: m.name })),
  ...(sequences.value?.items ?? []).map((q) => ({
    name: `${q.name} (sequence of ${q.steps.map((s) => s.step).join(', ')})`,
    value: `sequence ${q.name}`,
  })),
])
const sequence = computed(() => sequences.value?.items.find((q) => mapping.value === `sequence ${q.name}`))
const { data: loads } = useQuery({
  queryKey: ['loads of', () => props.sha],
  queryFn: () => data(api.GET('/api/v1/loads', { params: { query: { document: props.sha, limit: 10 } } })),
})

const mapping = ref('')
const options = ref<Options>({})
const sheet = ref('')
const busy = ref('')
const failed = ref<unknown>()
const chosen = computed(() => mappings.value?.items.find((m) => m.name === mapping.value))
watch([loads, mappings], () => {
  if (mapping.value) return
  if (loads.value?.items[0]) mapping.value = loads.value.items[0].mapping
  else if (mappings.value?.items.length === 1) mapping.value = mappings.value.items[0]!.name
})
watch(doc, (d) => {
  if (!sheet.value) sheet.value = d?.shape.sheets?.[0] ?? ''
})

async function fetchRows(from: number, limit: number): Promise<RowsOutcome> {
  const rows = await data(
    api.GET('/api/v1/documents/{document}/rows', {
      params: { path: { document: props.sha }, query: { sheet: sheet.value || undefined, from, limit } },
    }),
  )
  return { ...rows, spans: [], findings: [] }
}

async function begin(dryRun: boolean) {
  failed.value = undefined
  busy.value = dryRun ? 'dry' : 'real'
  try {
    if (sequence.value) {
      await data(
        api.POST('/api/v1/runs', {
          body: { document: props.sha, sequence: sequence.value.name, ...options.value, dry_run: dryRun },
        }),
      )
      await router.push('/loads')
      return
    }
    const l = await data(
      api.POST('/api/v1/loads', {
        body: { document: props.sha, mapping: mapping.value, ...options.value, dry_run: dryRun },
      }),
    )
    await router.push(`/loads/${l.id}`)
  } catch (e) {
    failed.value = e
  } finally {
    busy.value = ''
  }
}
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else-if="doc">
      <div class="bar">
        <h1>{{ doc.name }}</h1>
        <span class="soft">{{ size(doc.size) }}, received <WhenMark :at="doc.received_at" /></span>
        <span v-if="route.query.known" class="known">The same bytes were received before: this is that document.</span>
        <span class="grow" />
        <Button
          v-if="!doc.taken_away_at" size="small" text label="The file as it came"
          @click="download(`/api/v1/documents/${sha}/content`)" />
      </div>
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <StateNote
        v-if="doc.taken_away_at" class="sheet"
        :empty="`The bytes of this document were kept for a time only; they were taken away on ${when(doc.taken_away_at)}. Send the same file in once more to have them back.`" />
      <div v-else class="split">
        <SourceGrid v-if="sheet || doc.shape.format !== 'xlsx'" :key="sheet" :fetch-rows="fetchRows" />
        <div class="side">
          <section class="sheet box">
            <h2>Try it, then load it</h2>
            <label for="mapping">Mapping</label>
            <Select
              v-model="mapping" input-id="mapping" :options="choices" option-label="name" option-value="value"
              placeholder="Choose a mapping" filter
              :empty-message="'No mapping is here yet: koinos mapping keep FILE'" />
            <p v-if="sequence" class="soft">{{ sequence.about }} ·
              {{ sequence.steps.map((s) => `${s.step}: ${s.mapping}`).join(', then ') }}</p>
            <p v-if="chosen" class="soft">{{ chosen.about }} · {{ chosen.describe }} · version {{ chosen.version }}</p>
            <label class="check">
              <Checkbox v-model="options.all_or_none" binary input-id="all" /> <span>All or none: one refused order
                keeps every order out</span>
            </label>
            <LoadOptions v-model="options" />
            <div class="bar">
              <Button label="Dry run" :disabled="!mapping" :loading="busy === 'dry'" @click="begin(true)" />
              <Button label="Load" outlined :disabled="!mapping" :loading="busy === 'real'" @click="begin(false)" />
            </div>
            <Button
              outlined label="Open in the mapping editor" :disabled="!chosen"
              @click="router.push(`/documents/${sha}/editor?mapping=${mapping}`)" />
            <Button text label="Draft a new mapping for it" @click="router.push(`/documents/${sha}/editor`)" />
            <p class="soft">A dry run stores no order and shows every finding at its cell.</p>
          </section>
          <section v-if="doc.shape.sheets && doc.shape.sheets.length > 1" class="sheet box">
            <h2>Sheets</h2>
            <div class="bar">
              <Button
                v-for="s in doc.shape.sheets" :key="s" size="small" :label="s" :outlined="s !== sheet"
                @click="sheet = s" />
            </div>
          </section>
          <section v-if="loads?.items.length" class="sheet box">
            <h2>Loads of this document</h2>
            <ul>
              <li v-for="l in loads.items" :key="l.id">
                <RouterLink
                  :to="`/loads/${l.id}`">{{ l.dry_run ? 'Dry run' : 'Load' }} {{ l.id }}</RouterLink> <WhenMark
                  :at="l.started_at" /> <OutcomeMark :word="loadWord(l)" />
              </li>
            </ul>
          </section>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.side {
  display: flex;
  flex-direction: column;
  gap: 12px;
  overflow: auto;
}
.box {
  padding: 14px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.box p {
  margin: 0;
}
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  padding: 3px 0;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
.known {
  color: var(--warning);
}
</style>
