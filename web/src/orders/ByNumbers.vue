<script setup lang="ts">
import Button from 'primevue/button'
import Textarea from 'primevue/textarea'
import { computed, ref } from 'vue'

import { api, data, type OrderSummary } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { count } from '../format'
import { numbersIn } from './which'

// Orders are chosen by their numbers, ours or the senders', pasted or from a file, among those of the kind and partner
// that the list is narrowed to. What is not clear is said, and not chosen.
const props = defineProps<{ most: number; chosen: number; kind: string; partner: string }>()
const emit = defineEmits<{ choose: [order: OrderSummary]; close: [] }>()
const { busy, failed, act } = useBusy()
const text = ref('')
const numbers = computed(() => numbersIn(text.value))
const done = ref(0)
const found = ref(0)
const problems = ref<string[]>([])

const among = computed(() => ({
  ...(props.kind && { kind: props.kind }),
  ...(props.partner && { partner: props.partner }),
}))
async function ofNumber(number: string): Promise<OrderSummary[]> {
  const ask = (query: Record<string, unknown>) =>
    data(api.GET('/api/v1/orders', { params: { query: { limit: 50, ...among.value, ...query } as never } }))
  const ours = (await ask({ number })).items
  if (ours.length) return ours
  return (await ask({ sender_number: number })).items
}
const choose = () =>
  act('choose', async () => {
    done.value = found.value = 0
    problems.value = []
    for (const number of numbers.value) {
      const all = await ofNumber(number)
      done.value++
      if (all.length === 1 && props.chosen < props.most) {
        found.value++
        emit('choose', all[0]!)
      } else if (all.length === 1) problems.value.push(`${number} is not chosen: ${props.most} are, which is the most`)
      else if (all.length === 0) problems.value.push(`No order has the number ${number}`)
      else problems.value.push(`Several have the number ${number}: ${all.map((o) => `${o.number} of ${o.partner}`).join(', ')}`)
    }
  })
async function read(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file) text.value = await file.text()
}
</script>

<template>
  <section class="sheet numbers" aria-label="By numbers">
    <form class="bar" @submit.prevent="choose">
      <Textarea
        v-model="text" rows="3" cols="48" size="small" aria-label="Numbers of orders"
        placeholder="Numbers of orders, ours or theirs: one a line, or with commas between" />
      <div class="acts">
        <Button
          size="small" type="submit" :label="numbers.length ? `Choose ${count(numbers.length, 'order')}` : 'Choose'"
          :disabled="!numbers.length || !!busy" />
        <label class="file">or from a file <input type="file" accept=".txt,.csv,text/plain" @change="read" /></label>
      </div>
      <span class="grow" />
      <Button size="small" text label="Close" @click="emit('close')" />
    </form>
    <div v-if="busy || done" class="bar" role="status">
      <progress v-if="busy" :value="done" :max="numbers.length" />
      <span>{{ found }} of {{ count(done, 'number') }} found.</span>
    </div>
    <ul v-if="problems.length">
      <li v-for="p in problems" :key="p">{{ p }}.</li>
    </ul>
    <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
  </section>
</template>

<style scoped>
.numbers {
  padding: 8px 12px;
  margin-bottom: 10px;
  display: grid;
  gap: 8px;
  font-size: 13px;
}
.acts {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.file {
  color: var(--ink-soft);
}
ul {
  margin: 0;
  padding-left: 18px;
  max-height: 9rem;
  overflow: auto;
  color: var(--warning);
}
progress {
  accent-color: var(--accent);
}
</style>
