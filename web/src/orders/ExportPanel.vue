<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { computed, reactive, ref, watch } from 'vue'

import { api, data, download, saveText, sendText } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import { choiceOf, formats, layouts, purposes, queryOfTable, sidesOf, type Table, tableOf } from './exporting'
import { whichOf, type Which } from './which'

// Orders as a table, without a mapping: which columns, what a row is, and what somebody will do with it. The choice can
// be kept under a name, and then only what is new since the last time can be written.
const props = defineProps<{ ids: number[]; filter: Record<string, string> }>()
const which = defineModel<Which>({ required: true })
const emit = defineEmits<{ close: [] }>()
const { busy, failed, act } = useBusy()

const { data: known } = useQuery({
  queryKey: ['export-columns'],
  queryFn: () => data(api.GET('/api/v1/orders/export-columns')),
  staleTime: Infinity,
})
const { data: keptOnes, refetch } = useQuery({ queryKey: ['exports'], queryFn: () => data(api.GET('/api/v1/exports')) })
const names = computed(() => (keptOnes.value?.items ?? []).map((e) => e.name))
const usual = (layout: string) => known.value?.usual[layout] ?? []

const table = reactive<Table>({ layout: 'every', columns: [], open: false, sums: false, for: 'read' })
const format = ref('xlsx')
watch(known, () => table.columns.length || (table.columns = [...usual(table.layout)]), { immediate: true })
watch(
  () => table.layout,
  (now, was) => {
    if (table.columns.join() === usual(was).join()) table.columns = [...usual(now)]
  },
)
const filledIn = computed(() => table.for !== 'read')
const sides = computed(() => (filledIn.value ? sidesOf(table.for, props.filter.kind ?? '') : []))
watch(filledIn, (is) => is && Object.assign(table, { layout: 'every', sums: false }))
const side = ref('') // where several are left to choose from
const kind = computed(() => (sides.value.length > 1 ? side.value : (sides.value[0] ?? '')))

// Columns: those that there are, and those with a word of the reader's own.
const columns = computed(() =>
  [...new Set([...(known.value?.items ?? []).filter((c) => !c.family).map((c) => c.name), ...table.columns])].map((n) => ({
    name: n,
    about: known.value?.items.find((c) => c.name === n)?.about ?? '',
  })),
)
const families = computed(() => (known.value?.items ?? []).filter((c) => c.family).map((c) => c.name))
const own = ref('')
const fits = computed(() =>
  families.value.some((f) => own.value.startsWith(f.slice(0, -1)) && own.value.length >= f.length),
)
function add() {
  if (!table.columns.includes(own.value)) table.columns.push(own.value)
  own.value = ''
}
const leave = (column: string) => (table.columns = table.columns.filter((c) => c !== column))
function move(column: string, by: number) {
  const to = table.columns.indexOf(column) + by
  leave(column)
  table.columns.splice(to, 0, column)
}

// What is kept under a name.
const name = ref('')
const fresh = ref(false)
const kept = computed(() => keptOnes.value?.items.find((e) => e.name === name.value))
const valid = computed(() => /^[a-z0-9][a-z0-9-]{0,79}$/.test(name.value))
const followed = computed(() => kept.value && !props.ids.length && !props.filter.load && !props.filter.changed_since)
function use(name: string) {
  const choice = keptOnes.value?.items.find((e) => e.name === name)?.choice
  if (choice === undefined) return // it is a new name
  Object.assign(table, tableOf(choice, known.value?.usual ?? {}))
  if (!props.ids.length) Object.assign(which.value, whichOf(choice))
}
const shown = () => queryOfTable(table, usual(table.layout), kind.value)
const keep = (position?: number) =>
  data(
    api.PUT('/api/v1/exports/{name}', {
      params: { path: { name: name.value } },
      body: { choice: position ? kept.value!.choice : choiceOf(props.filter, shown()), position },
    }),
  )
const save = () =>
  act('keep', async () => {
    await keep()
    await refetch()
  })
const write = () =>
  act('write', async () => {
    const of = props.ids.length ? { order: props.ids.join(',') } : props.filter
    const since: Record<string, string> = followed.value ? { since: String(fresh.value ? (kept.value!.position ?? 0) : 0) } : {}
    const query = new URLSearchParams({ ...of, ...shown(), ...since, format: format.value })
    const position = (await download(`/api/v1/orders/export?${query}`)).get('Koinos-Position')
    if (position) {
      await keep(Number(position)) // it is here: the next time begins behind it
      await refetch()
    }
  })

// A table that is filled in is loaded with a mapping of its own.
const mapping = ref('')
const validMapping = computed(() => /^[a-z0-9][a-z0-9-]{0,79}$/.test(mapping.value))
const stored = ref('')
async function textOf(as: string) {
  const { column, for: purpose } = shown()
  const query = { name: as, for: purpose, kind: kind.value, ...(column ? { column: [column] } : {}) }
  return (await data(api.GET('/api/v1/orders/export-mapping', { params: { query: query as never } }))).text
}
const toFile = () => act('mapping', async () => saveText(`${mapping.value}.yaml`, await textOf(mapping.value)))
const toKeep = () =>
  act('store', async () => {
    await sendText('/api/v1/mappings', 'POST', 'application/yaml', await textOf(mapping.value))
    stored.value = mapping.value
  })
</script>

<template>
  <section class="sheet export" aria-label="Export">
    <div class="bar">
      <b>Export</b>
      <span class="soft">{{ ids.length ? `the ${count(ids.length, 'order')} that you have chosen` : 'all orders of this list, not only the page' }}</span>
      <span class="grow" />
      <Button size="small" text label="Close" @click="emit('close')" />
    </div>
    <div class="form">
      <label for="x-for">The table is</label>
      <span class="bar">
        <Select
          v-model="table.for" input-id="x-for" aria-label="The table is" size="small" :options="purposes" option-label="label"
          option-value="value" />
        <Select
          v-if="sides.length > 1" v-model="side" size="small" :options="sides" placeholder="of which orders?"
          aria-label="Of which orders" />
        <span v-else-if="filledIn" class="soft">of {{ kind }} orders</span>
        <span v-if="filledIn" class="soft">The columns by which lines are found again come along.</span>
      </span>
      <label for="x-row">A row is</label>
      <span class="bar">
        <Select
          v-model="table.layout" input-id="x-row" aria-label="A row is" size="small" :options="layouts" option-label="label"
          option-value="value" :disabled="filledIn" />
        <label class="check"><Checkbox v-model="table.open" binary /> Only lines that are not complete</label>
        <label class="check"><Checkbox v-model="table.sums" binary :disabled="filledIn" /> Counts and sums under it</label>
      </span>
      <label for="x-columns">Columns</label>
      <div>
        <span class="bar">
          <MultiSelect
            v-model="table.columns" input-id="x-columns" aria-label="Columns" size="small" :options="columns" option-label="name"
            option-value="name" filter :filter-fields="['name', 'about']" :show-toggle-all="false"
            :max-selected-labels="0" :selected-items-label="`${table.columns.length} columns`" placeholder="no column"
            class="pick">
            <template #option="{ option }">
              <span class="option"><b>{{ option.name }}</b> <span class="soft">{{ option.about }}</span></span>
            </template>
          </MultiSelect>
          <form class="bar" @submit.prevent="fits && add()">
            <InputText
              v-model.trim="own" size="small" placeholder="custom.hull_no" aria-label="A field with a name of your own"
              :title="`One of ${families.join(', ')}, with your word at the end`" />
            <Button size="small" text type="submit" label="Add" :disabled="!fits" />
          </form>
          <Button
            size="small" text label="The usual ones" :disabled="table.columns.join() === usual(table.layout).join()"
            @click="table.columns = [...usual(table.layout)]" />
        </span>
        <ol class="columns" aria-label="Columns in their order">
          <li v-for="(c, i) in table.columns" :key="c">
            <button type="button" :disabled="i === 0" :aria-label="`Move ${c} to the left`" @click="move(c, -1)">‹</button>
            <span>{{ c }}</span>
            <button
              type="button" :disabled="i === table.columns.length - 1" :aria-label="`Move ${c} to the right`"
              @click="move(c, 1)">›</button>
            <button type="button" :aria-label="`Leave ${c} out`" @click="leave(c)">×</button>
          </li>
        </ol>
      </div>
      <label for="x-name">Kept under</label>
      <span class="bar">
        <Select
          v-model="name" input-id="x-name" size="small" editable :options="names" placeholder="a-name-like-this"
          @change="use($event.value)" />
        <Button
          size="small" text :label="kept ? 'Keep it anew' : 'Keep this choice'" :disabled="!valid"
          :loading="busy === 'keep'" @click="save" />
        <label v-if="followed" class="check">
          <Checkbox v-model="fresh" binary /> Only what is new or has changed since the last export of {{ name }}
        </label>
        <code v-if="kept" class="soft">koinos order export --saved {{ name }} --to orders.{{ format }}</code>
      </span>
      <label for="x-format">Written as</label>
      <span class="bar">
        <Select
          v-model="format" input-id="x-format" aria-label="Written as" size="small" :options="formats" option-label="label"
          option-value="value" />
        <Button
          size="small" label="Export" :loading="busy === 'write'"
          :disabled="!table.columns.length || (filledIn && !kind)" @click="write" />
      </span>
      <template v-if="filledIn">
        <label for="x-mapping">Its mapping</label>
        <span class="bar">
          <InputText v-model.trim="mapping" id="x-mapping" size="small" placeholder="a-name-like-this" />
          <Button
            size="small" outlined label="Keep it here" :disabled="!validMapping || !kind"
            :loading="busy === 'store'" @click="toKeep" />
          <Button
            size="small" text label="As a file" :disabled="!validMapping || !kind" :loading="busy === 'mapping'"
            @click="toFile" />
          <span v-if="stored" role="status">The mapping <RouterLink :to="`/mappings/${stored}`">{{ stored }}</RouterLink>
            is kept. Fill in the table, and <RouterLink to="/documents">load it</RouterLink> with it.</span>
          <span v-else class="soft">It takes the table in when you load it.</span>
        </span>
      </template>
    </div>
    <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
  </section>
</template>

<style scoped>
.export {
  padding: 8px 12px;
  margin-bottom: 10px;
  display: grid;
  gap: 8px;
  font-size: 13px;
}
.form {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 6px 12px;
  align-items: baseline;
}
.check {
  display: flex;
  gap: 6px;
  align-items: center;
}
.pick {
  min-width: 10rem;
}
.option {
  display: block;
  max-width: 40rem;
  white-space: normal;
}
.columns {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.columns li {
  border: 1px solid var(--rule);
  border-radius: 3px;
  padding: 1px 4px;
  display: flex;
  gap: 2px;
  align-items: center;
}
.columns button {
  all: unset;
  cursor: pointer;
  padding: 0 4px;
  color: var(--accent);
}
.columns button:disabled {
  color: var(--rule);
  cursor: default;
}
.columns button:focus-visible {
  outline: 2px solid var(--accent);
}
</style>
