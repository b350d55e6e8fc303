<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'

import { api, data, download } from '../api/client'
import NamePanel from '../components/NamePanel.vue'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'

// One list or crosswalk, edited as a table and saved as a whole.
const props = defineProps<{ kind: string; name: string }>()
const queries = useQueryClient()
const crosswalk = computed(() => props.kind === 'crosswalks')
type Row = Record<string, string>
async function all(): Promise<Row[]> {
  const rows: Row[] = []
  let cursor: string | undefined
  do {
    const query = { limit: 1000, cursor }
    if (crosswalk.value) {
      const page = await data(
        api.GET('/api/v1/crosswalks/{name}/pairs', { params: { path: { name: props.name }, query } }),
      )
      rows.push(...page.items.map((p) => ({ code: p.theirs, name: p.ours })))
      cursor = page.next
    } else {
      const page = await data(
        api.GET('/api/v1/lists/{name}/entries', { params: { path: { name: props.name }, query } }),
      )
      rows.push(
        ...page.items.map((e) => ({
          code: e.code,
          name: e.name ?? '',
          ...Object.fromEntries(Object.entries(e.attributes ?? {}).map(([k, v]) => [`+${k}`, v])),
        })),
      )
      cursor = page.next
    }
  } while (cursor)
  return rows
}
const {
  data: loaded,
  error,
  isPending,
  isPlaceholderData,
  refetch,
} = useQuery({
  queryKey: ['list', () => props.kind, () => props.name],
  queryFn: all,
  placeholderData: keepPreviousData,
})
const rows = ref<Row[]>([])
const find = ref('')
const busy = ref(false)
const failed = ref<unknown>()
const changed = ref(false)
watch(
  loaded,
  (l) => {
    rows.value = (l ?? []).map((r) => ({ ...r }))
    changed.value = false
  },
  { immediate: true },
)
const columns = computed(() => {
  const extra = new Set<string>()
  for (const r of rows.value) for (const k of Object.keys(r)) if (k.startsWith('+')) extra.add(k)
  return [
    { key: 'code', title: crosswalk.value ? 'theirs' : 'code' },
    { key: 'name', title: crosswalk.value ? 'ours' : 'name' },
    ...[...extra].sort().map((k) => ({ key: k, title: k.slice(1) })),
  ]
})
const shown = computed(() => {
  const f = find.value.trim().toLowerCase()
  return rows.value
    .map((r, i) => ({ r, i }))
    .filter(({ r }) => !f || Object.values(r).some((v) => v.toLowerCase().includes(f)))
    .slice(0, 500)
})
function set(i: number, key: string, value: string) {
  rows.value[i]![key] = value.trim()
  changed.value = true
}
function add() {
  rows.value.unshift({ code: '', name: '' })
  find.value = ''
  changed.value = true
}
async function save() {
  busy.value = true
  failed.value = undefined
  try {
    const path = { path: { name: props.name } }
    const kept = rows.value.filter((r) => r.code)
    if (crosswalk.value)
      await data(
        api.PUT('/api/v1/crosswalks/{name}', {
          params: path,
          body: { pairs: kept.map((r) => ({ theirs: r.code!, ours: r.name ?? '' })) },
        }),
      )
    else
      await data(
        api.PUT('/api/v1/lists/{name}', {
          params: path,
          body: {
            entries: kept.map((r) => ({
              code: r.code!,
              name: r.name,
              attributes: Object.fromEntries(
                Object.entries(r)
                  .filter(([k, v]) => k.startsWith('+') && v)
                  .map(([k, v]) => [k.slice(1), v]),
              ),
            })),
          },
        }),
      )
    changed.value = false
    await queries.invalidateQueries({ queryKey: [props.kind] })
    await refetch()
  } catch (e) {
    failed.value = e
  } finally {
    busy.value = false
  }
}
function remove(i: number) {
  rows.value.splice(i, 1)
  changed.value = true
}
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else>
      <div class="bar">
        <h1>{{ name }}</h1>
        <span class="soft">{{ crosswalk ? 'crosswalk' : 'list' }} of
          {{ count(rows.length, 'row') }}{{ changed ? ', changed' : '' }}</span>
        <span class="grow" />
        <InputText v-model="find" size="small" placeholder="Find" aria-label="Find in the list" />
        <Button size="small" text label="As CSV" @click="download(`/api/v1/${kind}/${name}/file?format=csv`)" />
        <Button size="small" text label="As workbook" @click="download(`/api/v1/${kind}/${name}/file?format=xlsx`)" />
        <Button size="small" outlined label="Add a row" @click="add" />
        <Button size="small" label="Save" :disabled="!changed || isPlaceholderData" :loading="busy" @click="save" />
      </div>
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <div class="split">
        <div class="sheet table">
          <table>
            <thead><tr><th v-for="c in columns" :key="c.key">{{ c.title }}</th><th /></tr></thead>
            <tbody>
              <tr v-for="{ r, i } in shown" :key="i">
                <td v-for="c in columns" :key="c.key">
                  <input
                    :value="r[c.key] ?? ''" :aria-label="`${c.title} of row ${i + 1}`"
                    @change="set(i, c.key, ($event.target as HTMLInputElement).value)" />
                </td>
                <td>
                  <button type="button" :aria-label="`Take ${r.code} out`" title="Take it out"
                    @click="remove(i)">×</button>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="shown.length === 500" class="soft">The first 500 are shown; Find narrows them.</p>
        </div>
        <div><NamePanel :kind="crosswalk ? 'crosswalks' : 'lists'" :name="name" /></div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.table {
  overflow: auto;
}
table {
  border-collapse: separate;
  border-spacing: 0;
  width: 100%;
  font-size: 13px;
}
th {
  position: sticky;
  top: 0;
  background: var(--desk);
  color: var(--ink-soft);
  font-weight: 400;
  text-align: left;
  padding: 4px 8px;
  border-bottom: 1px solid var(--rule);
}
td {
  border-bottom: 1px solid var(--rule-soft);
  border-right: 1px solid var(--rule-soft);
  padding: 0;
}
td input {
  width: 100%;
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 4px 8px;
}
td input:focus {
  background: var(--accent-wash);
  outline: none;
}
td button {
  font: inherit;
  border: 0;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
  padding: 2px 10px;
}
</style>
