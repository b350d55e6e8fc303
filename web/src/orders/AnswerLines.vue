<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'

import { computed } from 'vue'

import type { Statement } from './answer'

// The statements of an answer, line by line: a line can have several, each of a part of it.
const { lines } = defineProps<{
  lines: { id: string; at: number; number?: string; name: string; quantity?: string; unit?: string }[]
}>()
const said = defineModel<Statement[]>({ required: true })

const words = ['accepted', 'changed', 'back-ordered', 'pending', 'refused']
const byLine = computed(() => {
  const all = new Map<string, Statement[]>()
  for (const s of said.value) all.set(s.id, [...(all.get(s.id) ?? []), s])
  return all
})
const of = (id: string) => byLine.value.get(id) ?? []
const add = (id: string) => said.value.push({ id, answer: '', accepted: '', due_on: '', reason: '' })
const name = (what: string, line: { number?: string }, n: number) =>
  `${what} of line ${line.number}${n ? `, statement ${n + 1}` : ''}`
</script>

<template>
  <ul>
    <li v-for="l in lines.filter((l) => of(l.id).length)" :key="l.id" :data-line="l.at">
      <b>Line {{ l.number }}</b> {{ l.name }} <span class="soft">{{ l.quantity }} {{ l.unit }} ordered</span>
      <div v-for="(s, n) in of(l.id)" :key="n" class="statement">
        <Select
          v-model="s.answer" size="small" :options="words" show-clear placeholder="not answered"
          :aria-label="name('Answer', l, n)" />
        <InputText
          v-model="s.accepted" size="small" class="quantity" placeholder="all" :aria-label="name('Quantity', l, n)" />
        <InputText
          v-model="s.due_on" size="small" class="day" placeholder="for yyyy-mm-dd"
          :aria-label="name('Promised day', l, n)" />
        <Button
          v-if="n === of(l.id).length - 1" size="small" text label="+"
          title="One more statement of this line, such as a part that comes later"
          :aria-label="`One more statement of line ${l.number}`" @click="add(l.id)" />
        <InputText
          v-if="s.answer && s.answer !== 'accepted'" v-model="s.reason" size="small" class="why" placeholder="why"
          :aria-label="name('Why', l, n)" />
      </div>
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  font-size: 13px;
}
li {
  border-top: 1px solid var(--rule-soft);
  padding: 5px 0;
}
.statement {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 6px;
  margin-top: 3px;
}
.quantity {
  width: 5.5rem;
  text-align: right;
}
.day {
  width: 9rem;
}
.why {
  flex: 1 1 100%;
}
:deep(.p-select) {
  width: 10rem;
}
</style>
