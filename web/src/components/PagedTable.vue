<script setup lang="ts" generic="T extends object">
import Button from 'primevue/button'
import DataTable from 'primevue/datatable'
import MultiSelect from 'primevue/multiselect'
import { computed, Fragment, h, ref, useSlots, watch, type VNode } from 'vue'

import type { Page } from '../paging'
import StateNote from './StateNote.vue'

// A paged list as a table; the columns and what to say when it is empty come
// in slots. Of a list with a name the reader chooses the columns, and how wide they are: this browser remembers it.
const trail = defineModel<string[]>('trail', { required: true })
const props = defineProps<{ page?: Page<T>; error?: unknown; loading?: boolean; rowKey: string; empty: string; name?: string }>()
const emit = defineEmits<{ open: [row: T]; retry: [] }>()
const slots = useSlots()
const nothing = computed(() => !props.page?.items.length)

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
const headers = computed(() => columns(slots.default?.() ?? []).map(header).filter(Boolean))
const shown = computed({
  get: () => headers.value.filter((c) => !hidden.value.includes(c)),
  set: (all: string[]) => {
    if (all.length) hidden.value = headers.value.filter((c) => !all.includes(c)) // a table without columns shows nothing
  },
})
const Table = () => h(DataTable, {
  value: props.page!.items, dataKey: props.rowKey, onRowClick: (e: { data: T }) => emit('open', e.data),
  ...(props.name ? { resizableColumns: true, columnResizeMode: 'expand', stateStorage: 'local', stateKey: `koinos.widths.${props.name}` } : {}),
}, () => columns(slots.default?.() ?? []).filter((n) => !hidden.value.includes(header(n))))
</script>

<template>
  <div class="sheet">
    <StateNote v-if="error || loading || nothing" :error="error" :loading="loading" :empty="empty" @retry="$emit('retry')"><slot name="empty" /></StateNote>
    <template v-else>
      <div class="scroll"><Table /></div>
      <div v-if="name || page!.next || trail.length" class="bar turner">
        <span class="side" />
        <template v-if="page!.next || trail.length">
          <Button size="small" text label="Newer" :disabled="!trail.length" @click="trail = trail.slice(0, -1)" />
          <span class="soft">page {{ trail.length + 1 }}</span>
          <Button size="small" text label="Older" :disabled="!page!.next" @click="page!.next && (trail = [...trail, page!.next])" />
        </template>
        <span class="side end"><MultiSelect v-if="name" v-model="shown" :options="headers" size="small" :show-toggle-all="false" placeholder="Columns" aria-label="Columns of the table" :max-selected-labels="0" :selected-items-label="hidden.length ? `${shown.length} of ${headers.length} columns` : 'Columns'" /></span>
      </div>
    </template>
  </div>
</template>

<style scoped>
.scroll { overflow-x: auto; }
.scroll :deep(.p-datatable-resizable-table > .p-datatable-tbody > tr > td) { white-space: normal; }
.turner { justify-content: center; padding: 6px; }
.side { flex: 1; display: flex; }
.end { justify-content: flex-end; }
</style>
