<script setup lang="ts" generic="T extends object">
import Button from 'primevue/button'
import DataTable from 'primevue/datatable'
import { computed } from 'vue'

import type { Page } from '../paging'
import StateNote from './StateNote.vue'

// A paged list as a table; the columns and what to say when it is empty come
// in slots.
const trail = defineModel<string[]>('trail', { required: true })
const props = defineProps<{ page?: Page<T>; error?: unknown; loading?: boolean; rowKey: string; empty: string }>()
defineEmits<{ open: [row: T]; retry: [] }>()
const nothing = computed(() => !props.page?.items.length)
</script>

<template>
  <div class="sheet">
    <StateNote v-if="error || loading || nothing" :error="error" :loading="loading" :empty="empty" @retry="$emit('retry')"><slot name="empty" /></StateNote>
    <template v-else>
      <DataTable :value="page!.items" :data-key="rowKey" @row-click="$emit('open', $event.data)"><slot /></DataTable>
      <div v-if="page!.next || trail.length" class="bar turner">
        <Button size="small" text label="Newer" :disabled="!trail.length" @click="trail = trail.slice(0, -1)" />
        <span class="soft">page {{ trail.length + 1 }}</span>
        <Button size="small" text label="Older" :disabled="!page!.next" @click="page!.next && (trail = [...trail, page!.next])" />
      </div>
    </template>
  </div>
</template>

<style scoped>
.turner { justify-content: center; padding: 6px; }
</style>
