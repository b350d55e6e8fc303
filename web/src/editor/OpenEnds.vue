<script setup lang="ts">
import { computed } from 'vue'

import type { Preview } from '../api/client'
import { count } from '../format'
import * as edit from './text'

// What is left to do before the mapping is good: columns that are not used,
// values that lists do not know, what refuses orders.
const text = defineModel<string>({ required: true })
const props = defineProps<{ preview?: Preview; unused: string[] }>()
const unbound = computed(() => props.preview?.coverage.unbound ?? [])
const misses = computed(() => props.preview?.coverage.misses ?? [])
const errors = computed(() => (props.preview?.reasons ?? []).filter((r) => r.severity === 'error'))
const leaveOut = (column: string, out: boolean) => (text.value = edit.leaveOut(text.value, column, out))
</script>

<template>
  <div class="sheet todo">
    <div v-if="unbound.length" class="bar">
      <b>Not used:</b>
      <span v-for="u in unbound.slice(0, 12)" :key="`${u.sheet} ${u.column} ${u.heading}`" class="chip"
        :title="`${u.filled} values, such as ${u.sample}`">{{ u.heading || u.column }} <button type="button"
        :aria-label="`Leave ${u.heading || u.column} out on purpose`" title="Leave it out on purpose"
        @click="leaveOut(u.heading || `@${u.column}`, true)">×</button>
      </span>
    </div>
    <div v-if="unused.length" class="bar soft">Left out on purpose: <span v-for="u in unused" :key="u"
      class="chip">{{ u }} <button type="button" :aria-label="`Take ${u} back`" title="Take it back"
      @click="leaveOut(u, false)">↺</button>
      </span>
    </div>
    <div v-if="misses.length" class="bar">
      <b>Not in the lists:</b> <RouterLink v-for="m in misses.slice(0, 6)" :key="m.list + m.value" class="chip"
        :to="`/lists/${m.crosswalk ? 'crosswalks' : 'lists'}/${m.list}`"
        :title="`${m.list}, ${m.count} times${m.nearest ? `; nearest: ${m.nearest}` : ''}; opens the list`">{{ m.value }}</RouterLink>
      <span v-if="misses.length > 6" class="soft">and {{ misses.length - 6 }} more</span>
    </div>
    <div v-for="r in errors.slice(0, 3)" :key="r.code + r.field" class="err">{{ count(r.count, 'time') }}:
      {{ r.field ? `${r.field}: ` : '' }}{{ r.title }} <span class="soft">{{ r.example.at }}</span>
    </div>
    <div v-if="!unbound.length && !misses.length && !errors.length && preview" class="good">Every column is used, and
      no order is refused.</div>
  </div>
</template>

<style scoped>
.todo {
  margin-top: 8px;
  padding: 8px 12px;
  display: flex;
  flex-direction: column;
  gap: 5px;
  font-size: 12.5px;
  max-height: 150px;
  overflow: auto;
}
.todo .bar {
  gap: 6px;
}
.chip {
  border: 1px solid var(--rule);
  border-radius: 3px;
  padding: 0 2px 0 7px;
  background: var(--desk);
}
.chip button {
  font: inherit;
  border: 0;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
  padding: 0 5px;
}
.chip button:hover {
  color: var(--ink);
}
.err {
  color: var(--error);
}
.good {
  color: var(--good);
}
</style>
