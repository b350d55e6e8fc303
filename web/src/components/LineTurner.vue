<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Paginator from 'primevue/paginator'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'

import { linesAtOnce, partOf } from '../lines'

// Turns the pages of an order's lines, if there are too many to show them all; goes to a line by its number, or to the next one of which something
// was found.
const props = defineProps<{ lines: { number?: string }[]; marked?: number[] }>()
const first = defineModel<number>({ required: true })

const root = useTemplateRef('root')
const wanted = ref('')
const missing = ref(false)
watch(wanted, () => (missing.value = false))
const visited = ref(-1)
const next = computed(() => (props.marked ?? []).find((i) => i > visited.value) ?? props.marked?.[0] ?? 0)
const report = computed(() => `lines {first} to {last} of ${props.lines.length.toLocaleString('en')}`)
async function goTo(position: number) {
  first.value = partOf(position)
  visited.value = position
  await nextTick()
  root.value?.parentElement?.querySelector(`[data-line="${position + 1}"]`)?.scrollIntoView({ block: 'center' })
}
function go() {
  const number = wanted.value.trim()
  const at = props.lines.findIndex((l, i) => (l.number ?? String(i + 1)) === number)
  missing.value = at < 0
  if (at >= 0) void goTo(at)
}
</script>

<template>
  <div v-if="lines.length > linesAtOnce" ref="root" class="turner">
    <Paginator
      v-model:first="first" :rows="linesAtOnce" :total-records="lines.length"
      template="FirstPageLink PrevPageLink CurrentPageReport NextPageLink LastPageLink"
      :current-page-report-template="report" />
    <InputText
      v-model="wanted" size="small" placeholder="go to line" aria-label="Go to a line by its number"
      @keydown.enter.prevent.stop="go" @keypress.enter.prevent.stop />
    <span v-if="missing" class="soft" role="status">There is no line {{ wanted }}.</span>
    <Button
      v-if="marked?.length" size="small" text
      :label="marked.length === 1 ? 'The line with a finding' : `Next of ${marked.length} lines with findings`"
      @click="goTo(next)" />
  </div>
</template>

<style scoped>
.turner {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 2px 10px;
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--paper);
}
.turner :deep(.p-paginator) {
  padding: 0;
  background: none;
}
.turner :deep(.p-inputtext) {
  width: 6rem;
}
</style>
