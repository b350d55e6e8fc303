<script setup lang="ts" generic="T extends object">
import Button from 'primevue/button'
import DataTable from 'primevue/datatable'
import MultiSelect from 'primevue/multiselect'
import { cloneVNode, computed, Fragment, h, onMounted, ref, useSlots, watch, type VNode } from 'vue'

import { mostSorted, type Paged } from '../paging'
import StateNote from './StateNote.vue'

// A paged list as a table; the columns and what to say when it is empty come
// in slots. A column that says what it is sorted by can be sorted. Of a list with a name the reader chooses the columns, how wide
// they are, and by which it is sorted: this browser remembers it.
const props = defineProps<{ list: Paged<T>; rowKey: string; empty: string; name?: string }>()
const emit = defineEmits<{ open: [row: T] }>()
const slots = useSlots()
const { trail, page, sort, partly, error, isPending } = props.list
const nothing = computed(() => !page.value?.items.length)

const stored = props.name ? `koinos.columns.${props.name}` : ''
const hidden = ref<string[]>(read())
function read(): string[] {
  try {
    const all: unknown = JSON.parse((stored && localStorage.getItem(stored)) || '[]')
    return Array.isArray(all) ? all.filter((c) => typeof c === 'string') : []
  } catch {
    return [] // somebody else has written there
  }
}
watch(hidden, (all) => stored && localStorage.setItem(stored, JSON.stringify(all)))

/** columns are the vnodes of the columns, also those within a v-for or v-if. */
function columns(nodes: VNode[]): VNode[] {
  return nodes.flatMap((n) => (n.type === Fragment && Array.isArray(n.children) ? columns(n.children as VNode[]) : [n]))
}
const header = (n: VNode) => (n.props?.header as string | undefined) ?? ''
const headers = computed(() =>
  columns(slots.default?.() ?? [])
    .map(header)
    .filter(Boolean),
)
const shown = computed({
  get: () => headers.value.filter((c) => !hidden.value.includes(c)),
  set: (all: string[]) => {
    if (all.length) hidden.value = headers.value.filter((c) => !all.includes(c)) // a table without columns shows nothing
  },
})
// by gives what a column is sorted by: a field, or what is made of several; undefined is that it cannot be sorted.
function by(n: VNode): ((item: T) => unknown) | undefined {
  const of = n.props?.['sort-field'] ?? n.props?.field
  if (typeof of === 'function') return of
  return typeof of === 'string'
    ? (item) => of.split('.').reduce<unknown>((v, k) => (v as Record<string, unknown> | undefined)?.[k], item)
    : undefined
}
const remembered = props.name ? `koinos.sort.${props.name}` : ''
function sorted(column: string | undefined, down: boolean) {
  const of = columns(slots.default?.() ?? []).find((n) => header(n) === column)
  const key = of && by(of)
  sort.value = column && key ? { by: column, down, of: key } : undefined
  if (remembered) localStorage.setItem(remembered, sort.value ? (down ? '-' : '+') + column : '')
}
onMounted(() => {
  const was = (remembered && localStorage.getItem(remembered)) || ''
  if (was) sorted(was.slice(1), was.startsWith('-'))
})
const Table = () =>
  h(
    DataTable,
    {
      value: page.value!.items,
      dataKey: props.rowKey,
      onRowClick: (e: { data: T }) => emit('open', e.data),
      lazy: true,
      removableSort: true,
      sortField: sort.value?.by,
      sortOrder: sort.value ? (sort.value.down ? -1 : 1) : undefined, // it is sorted here, over all pages
      onSort: (e: { sortField?: unknown; sortOrder?: number | null }) =>
        sorted(e.sortOrder ? (e.sortField as string) : undefined, e.sortOrder === -1),
      ...(props.name
        ? {
            resizableColumns: true,
            columnResizeMode: 'expand',
            stateStorage: 'local',
            stateKey: `koinos.widths.${props.name}`,
          }
        : {}),
    },
    () =>
      columns(slots.default?.() ?? [])
        .filter((n) => !hidden.value.includes(header(n)))
        .map((n) => (by(n) ? cloneVNode(n, { sortable: true, 'sort-field': header(n) }) : n)),
  )
</script>

<template>
  <div class="sheet">
    <StateNote
      v-if="error || isPending || nothing" :error="error" :loading="isPending" :empty="empty" @retry="list.refetch()">
      <slot name="empty" />
    </StateNote>
    <template v-else>
      <div class="scroll"><Table /></div>
      <div v-if="name || page!.next || trail.length" class="bar turner">
        <span class="side soft">
          <template v-if="sort">Sorted by {{ sort.by.toLowerCase() }}<template v-if="partly">: the newest
            {{ mostSorted.toLocaleString('en') }} only. Narrow the list to sort all of it.</template>
          </template>
        </span>
        <template v-if="page!.next || trail.length">
          <Button
            size="small" text :label="sort ? 'Previous' : 'Newer'" :disabled="!trail.length"
            @click="trail = trail.slice(0, -1)" />
          <span class="soft">page {{ trail.length + 1 }}</span>
          <Button
            size="small" text :label="sort ? 'Next' : 'Older'" :disabled="!page!.next"
            @click="page!.next && (trail = [...trail, page!.next])" />
        </template>
        <span class="side end">
          <MultiSelect
            v-if="name" v-model="shown" :options="headers" size="small" :show-toggle-all="false" placeholder="Columns"
            aria-label="Columns of the table" :max-selected-labels="0"
            :selected-items-label="hidden.length ? `${shown.length} of ${headers.length} columns` : 'Columns'" />
        </span>
      </div>
    </template>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.scroll :deep(.p-datatable-resizable-table > .p-datatable-tbody > tr > td) {
  white-space: normal;
}
/* what can be sorted shows it where one points, or comes with the keyboard */
.scroll :deep(.p-datatable-column-header-content) {
  position: relative;
  width: fit-content;
  gap: 0;
}
.scroll :deep(.right .p-datatable-column-header-content) {
  margin-left: auto;
}
.scroll :deep(th[aria-sort='none'] .p-datatable-sort-icon) {
  opacity: 0;
  position: absolute;
  left: 100%;
}
.scroll :deep(.p-datatable-sort-icon) {
  margin-left: 4px;
}
.scroll :deep(th[aria-sort='none']:is(:hover, :focus-visible) .p-datatable-sort-icon) {
  opacity: 0.6;
}
.turner {
  justify-content: center;
  padding: 6px;
}
.side {
  flex: 1;
  display: flex;
}
.end {
  justify-content: flex-end;
}
</style>
