<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useQuery, keepPreviousData } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, nextTick, ref, watch } from 'vue'

import { api, data, type Interchange, type SetRecord } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import { count, interchangeWord } from '../format'

// The transaction sets of an interchange that has many: those in a state, or about an order, a page at a time. Those that need a person
// come first.
const props = defineProps<{ of: Interchange; panel: string }>()
const open = defineModel<number>({ required: true })

type State = SetRecord['state']
const found = (state: string) => props.of.set_states?.[state] ?? 0
const state = ref<State | undefined>((['held', 'rejected'] as const).find(found))
const word = (s: State) => interchangeWord({ state: s, direction: props.of.direction })
const states = computed(() => [
  { value: undefined, label: `all ${(props.of.set_count ?? 0).toLocaleString('en')}` },
  ...(Object.keys(props.of.set_states ?? {}) as State[]).map((s) => ({
    value: s,
    label: `${found(s).toLocaleString('en')} ${word(s)}`,
  })),
])
// What was held is done after a replay: then the list shows the others.
watch(
  () => props.of.set_states,
  () => {
    if (state.value && !found(state.value)) state.value = (['held', 'rejected'] as const).find(found)
  },
)
const typed = ref('')
const number = ref('')
const trail = ref<string[]>([]) // cursors of the pages gone through
watch([state, number], () => (trail.value = []))
const { data: page, error } = useQuery({
  queryKey: ['sets', () => props.of.id, state, number, trail],
  queryFn: () =>
    data(
      api.GET('/api/v1/interchanges/{id}/sets', {
        params: {
          path: { id: props.of.id },
          query: { state: state.value, number: number.value || undefined, cursor: trail.value.at(-1), limit: 50 },
        },
      }),
    ),
  placeholderData: keepPreviousData,
})
const items = computed(() => page.value?.items ?? [])
// One that was searched for is shown; nothing is, until one is chosen, where there are several.
watch(items, (all) => {
  if (number.value && all.length === 1) open.value = all[0]!.seq
})
const list = ref<HTMLElement>()
async function onKey(e: KeyboardEvent) {
  const move = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  if (!move) return
  e.preventDefault()
  const at = items.value.findIndex((s) => s.seq === open.value)
  open.value = items.value[Math.max(0, Math.min(items.value.length - 1, at + move))]?.seq ?? open.value
  await nextTick()
  list.value?.querySelector<HTMLElement>('[aria-current="true"]')?.focus()
}
</script>

<template>
  <nav class="sheet sets" aria-label="Transaction sets">
    <div class="choose">
      <Select
        v-model="state" :options="states" option-label="label" option-value="value" size="small" fluid
        aria-label="In which state" />
      <InputText
        v-model="typed" size="small" fluid placeholder="order or set number"
        aria-label="Number of an order or of the set" @keydown.enter="number = typed.trim()"
        @change="number = typed.trim()" />
    </div>
    <StateNote v-if="error || (page && !items.length)" :error="error" empty="No transaction set is like that." />
    <ol v-else ref="list" @keydown="onKey">
      <li v-for="s in items" :key="s.seq">
        <button type="button" :aria-current="s.seq === open" :aria-controls="panel" @click="open = s.seq">
          <span>{{ s.orders?.[0]?.number || s.kind }}<template
            v-if="(s.orders?.length ?? 0) > 1"> and {{ count(s.orders!.length - 1, 'other') }}</template></span>
          <span class="soft">{{ s.control }}</span>
          <OutcomeMark v-if="!state" :word="word(s.state)" />
        </button>
      </li>
    </ol>
    <div v-if="page?.next || trail.length" class="turn">
      <Button size="small" text label="Previous" :disabled="!trail.length" @click="trail = trail.slice(0, -1)" />
      <Button
        size="small" text label="Next" :disabled="!page?.next" @click="page?.next && (trail = [...trail, page.next])" />
    </div>
  </nav>
</template>

<style scoped>
.sets {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.choose {
  display: grid;
  gap: 6px;
  padding: 8px;
}
ol {
  flex: 1;
  margin: 0;
  padding: 0;
  list-style: none;
  overflow: auto;
  font-size: 12.5px;
}
li button {
  width: 100%;
  display: flex;
  flex-wrap: wrap;
  gap: 0 8px;
  justify-content: space-between;
  font: inherit;
  text-align: left;
  color: inherit;
  background: none;
  border: 0;
  border-left: 3px solid transparent;
  padding: 3px 9px;
  cursor: pointer;
}
li button:hover {
  background: var(--desk);
}
li button[aria-current='true'] {
  background: var(--desk);
  border-left-color: var(--accent);
  font-weight: 600;
}
.turn {
  display: flex;
  justify-content: space-between;
  border-top: 1px solid var(--rule-soft);
}
</style>
