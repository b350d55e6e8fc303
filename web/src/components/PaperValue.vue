<script setup lang="ts">
import { computed, inject } from 'vue'

import { money } from '../format'
import { paperKey } from './paper'

// One value on the order paper: it knows the cell that it came from.
const props = defineProps<{ line?: number; field: string; value?: string; number?: boolean; strong?: boolean }>()
const paper = inject(paperKey)!
const place = computed(() => paper.place(props.line ?? 0, props.field))
const found = computed(() => paper.findings(props.line ?? 0, props.field))
const severity = computed(() =>
  found.value.some((f) => f.severity === 'error') ? 'error' : found.value.length ? 'warning' : '',
)
const shown = computed(() =>
  props.value
    ? props.number
      ? money(props.value)
      : props.value
    : severity.value
      ? found.value[0]!.value || 'missing'
      : '',
)
const lit = computed(
  () =>
    place.value &&
    paper.lit.value?.column === place.value.column &&
    (paper.lit.value?.pointer ?? paper.lit.value?.row) === (place.value.pointer ?? place.value.row),
)
const title = computed(() =>
  [
    ...found.value.map((f) => f.message),
    paper.placeName(props.line ?? 0, props.field) || (props.value ? 'from the mapping' : ''),
  ]
    .filter(Boolean)
    .join('\n'),
)
function ask() {
  paper.ask(props.line ?? 0, props.field)
  if (place.value) paper.pick(place.value)
}
</script>

<template>
  <component
    :is="place ? 'button' : 'span'" v-if="shown" class="value" :class="[severity, { lit, strong, from: place }]"
      :title="title" type="button"
    @mouseenter="paper.point(place)" @mouseleave="paper.point(undefined)" @focus="paper.point(place)"
      @blur="paper.point(undefined)" @click="ask"
  >{{ shown }}</component>
</template>

<style scoped>
.value {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0 2px;
  margin: 0 -2px;
  border-radius: 2px;
  text-align: inherit;
}
.value.from {
  cursor: pointer;
}
.value.from:hover,
.lit {
  background: var(--accent-wash);
  box-shadow: 0 0 0 1px var(--accent);
}
.strong {
  font-weight: 600;
}
.error {
  color: var(--error);
  text-decoration: underline wavy;
  text-underline-offset: 3px;
}
.warning {
  color: var(--warning);
  text-decoration: underline dotted;
  text-underline-offset: 3px;
}
</style>
