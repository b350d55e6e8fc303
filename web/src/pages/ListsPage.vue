<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, sendText } from '../api/client'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import WhenMark from '../components/WhenMark.vue'

// Reference lists and crosswalks: which there are, and new ones from files.
const router = useRouter()
const queries = useQueryClient()
const {
  data: lists,
  error,
  isPending,
  refetch,
} = useQuery({ queryKey: ['lists'], queryFn: () => data(api.GET('/api/v1/lists')) })
const { data: walks } = useQuery({ queryKey: ['crosswalks'], queryFn: () => data(api.GET('/api/v1/crosswalks')) })
const name = ref('')
const failed = ref<unknown>()
const input = ref<HTMLInputElement>()
let kind = 'lists'
function choose(what: string) {
  kind = what
  input.value?.click()
}
async function importFile(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  failed.value = undefined
  try {
    const chosen =
      name.value.trim() ||
      file.name
        .replace(/\.[^.]*$/, '')
        .toLowerCase()
        .replace(/[^a-z0-9_-]+/g, '-')
    await sendText(`/api/v1/${kind}/${chosen}/file`, 'PUT', 'application/octet-stream', file)
    await queries.invalidateQueries({ queryKey: [kind] })
    await router.push(`/lists/${kind}/${chosen}`)
  } catch (err) {
    failed.value = err
  } finally {
    ;(e.target as HTMLInputElement).value = ''
  }
}
</script>

<template>
  <div class="page">
    <div class="bar">
      <h1>Lists</h1>
      <span class="soft">Lists that orders are checked against, and crosswalks from partners' codes to ours.</span>
      <span class="grow" />
      <InputText v-model="name" size="small" placeholder="name; blank: the file's" aria-label="Name of the new list" />
      <Button size="small" outlined label="Import a list" @click="choose('lists')" />
      <Button size="small" outlined label="Import a crosswalk" @click="choose('crosswalks')" />
      <input
        ref="input" type="file" aria-label="A list from this computer" accept=".csv,.xlsx,.ods" hidden
        @change="importFile" />
    </div>
    <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <div v-else class="two">
      <section
        v-for="s in [{ kind: 'lists', title: 'Reference lists', items: lists?.items ?? [] }, { kind: 'crosswalks', title: 'Crosswalks', items: walks?.items ?? [] }]"
        :key="s.kind" class="sheet box">
        <h2>{{ s.title }}</h2>
        <p v-if="!s.items.length" class="soft">None yet. A CSV or workbook with the columns
          {{ s.kind === 'lists' ? 'code and name' : 'theirs and ours' }} makes one.</p>
        <ul>
          <li v-for="i in s.items" :key="i.name">
            <RouterLink :to="`/lists/${s.kind}/${i.name}`">{{ i.name }}</RouterLink> <span
              class="soft">{{ count(i.entries, 'row') }}, <WhenMark v-if="i.imported_at" :at="i.imported_at" />
              <template v-else>ships with Koinos</template>
            </span>
          </li>
        </ul>
      </section>
    </div>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
  margin-top: 12px;
}
.box {
  padding: 14px 18px;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
}
li {
  padding: 4px 0;
  border-top: 1px solid var(--rule-soft);
  display: flex;
  justify-content: space-between;
}
</style>
