<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Select from 'primevue/select'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, download, type Comparison } from '../api/client'
import NamePanel from '../components/NamePanel.vue'
import StateNote from '../components/StateNote.vue'
import EffectTable from '../editor/EffectTable.vue'
import WhenMark from '../components/WhenMark.vue'

// One mapping: its text, its versions, and what a change did.
const props = defineProps<{ name: string }>()
const router = useRouter()
const {
  data: versions,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['versions', () => props.name],
  queryFn: () => data(api.GET('/api/v1/mappings/{name}/versions', { params: { path: { name: props.name } } })),
  placeholderData: keepPreviousData,
})
const { data: documents } = useQuery({
  queryKey: ['documents'],
  queryFn: () => data(api.GET('/api/v1/documents', { params: { query: { limit: 100 } } })),
})
const version = ref<number>()
const shown = computed(() => versions.value?.items.find((v) => v.version === version.value) ?? versions.value?.items[0])
const before = computed(() => versions.value?.items.find((v) => v.version === (shown.value?.version ?? 0) - 1))
const document = ref('')
const effect = ref<Comparison>()
const failed = ref<unknown>()
const lines = computed(() => {
  const old = new Set((before.value?.text ?? '').split('\n'))
  const now = new Set((shown.value?.text ?? '').split('\n'))
  const list = (shown.value?.text ?? '')
    .split('\n')
    .map((text) => ({ text, mark: before.value && text.trim() && !old.has(text) ? '+' : '' }))
  return { list, gone: before.value ? [...old].filter((t) => t.trim() && !now.has(t)) : [] }
})
async function compare() {
  failed.value = undefined
  try {
    effect.value = await data(
      api.POST('/api/v1/documents/{document}/comparison', {
        params: { path: { document: document.value } },
        body: {
          was: { name: props.name, version: before.value!.version },
          is: { name: props.name, version: shown.value!.version },
        },
      }),
    )
  } catch (e) {
    failed.value = e
  }
}
async function blank() {
  failed.value = undefined
  try {
    await download(`/api/v1/mappings/${props.name}/blank?version=${shown.value!.version}`)
  } catch (e) {
    failed.value = e
  }
}
function look(at: number) {
  version.value = at
  effect.value = undefined
}
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else-if="shown">
      <div class="bar">
        <h1>{{ name }}</h1>
        <span class="soft">version {{ shown.version }}, kept <WhenMark :at="shown.stored_at" /> by
          {{ shown.stored_by }}</span>
        <span class="grow" />
        <Button size="small" text label="Blank sheet to fill in" @click="blank" />
        <Select
          v-model="document" size="small" :options="documents?.items ?? []" option-label="name" option-value="sha"
          filter placeholder="Choose a document …" aria-label="Document" />
        <Button
          size="small" label="Open in the mapping editor" :disabled="!document"
          @click="router.push(`/documents/${document}/editor?mapping=${name}`)" />
      </div>
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <div class="split">
        <div class="sheet text" tabindex="0" role="region" aria-label="The text of the mapping">
          <pre><span v-for="(l, i) in lines.list" :key="i" :class="{ plus: l.mark }">{{ l.text }}{{ '\n' }}</span></pre>
          <p v-if="lines.gone.length" class="soft gone">Gone since version {{ before!.version }}:</p>
          <pre v-if="lines.gone.length" class="minus">{{ lines.gone.join('\n') }}</pre>
        </div>
        <div class="side">
          <section class="sheet box">
            <h2>Versions</h2>
            <ul>
              <li v-for="v in versions!.items" :key="v.version">
                <button type="button" :class="{ here: v.version === shown.version }" @click="look(v.version)">version
                  {{ v.version }}</button> <span class="soft">
                  <WhenMark :at="v.stored_at" /> by {{ v.stored_by }}</span>
              </li>
            </ul>
          </section>
          <section v-if="before" class="sheet box">
            <h2>What version {{ shown.version }} changed</h2>
            <p class="soft">Choose a document above and run both versions over it.</p>
            <Button
              size="small" outlined :label="`Compare with version ${before.version}`" :disabled="!document"
              @click="compare" />
            <EffectTable v-if="effect" :effect="effect" />
          </section>
          <NamePanel kind="mappings" :name="name" />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.text {
  overflow: auto;
  padding: 10px 14px;
}
pre {
  margin: 0;
  font-size: 12.5px;
  white-space: pre-wrap;
}
.plus {
  background: color-mix(in srgb, var(--good) 18%, transparent);
}
.minus {
  color: var(--ink-soft);
  text-decoration: line-through;
}
.gone {
  margin: 10px 0 2px;
}
.side {
  display: flex;
  flex-direction: column;
  gap: 12px;
  overflow: auto;
}
.box {
  padding: 12px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  align-items: flex-start;
}
.box p {
  margin: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li button {
  font: inherit;
  color: var(--accent);
  background: none;
  border: 0;
  padding: 2px 4px;
  cursor: pointer;
}
li button.here {
  font-weight: 600;
  color: var(--ink);
}
</style>
