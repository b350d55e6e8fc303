<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import { computed, ref, watch } from 'vue'

import { api, data, type SetRecord } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { askedOf } from './asked'

// The changes that a transaction set asks for, by the lines of the set that ask for them: those of the chosen lines are
// taken, and the others are refused.
const props = defineProps<{ id: number; set: SetRecord }>()
const emit = defineEmits<{ show: [row: number, column?: number] }>()
const client = useQueryClient()
const { busy, failed, act } = useBusy()
const lines = computed(() => askedOf(props.set))
const chosen = ref<number[]>([])
watch(
  () => lines.value.map((l) => l.line).join(),
  () => (chosen.value = lines.value.map((l) => l.line)),
  { immediate: true },
)
const label = computed(() => {
  const [n, all] = [chosen.value.length, lines.value.length]
  return n === all ? 'Take all of it' : `Take ${n} of ${all}, refuse the others`
})
const decide = (take: number[]) =>
  act('decide', async () => {
    const path = { id: props.id, seq: props.set.seq }
    await data(api.POST('/api/v1/interchanges/{id}/sets/{seq}/decision', { params: { path }, body: { take } }))
    await client.invalidateQueries()
  })
</script>

<template>
  <section class="sheet asked" aria-label="Asked changes">
    <h2>What is asked for</h2>
    <ol>
      <li v-for="l in lines" :key="l.line">
        <label><Checkbox v-model="chosen" :value="l.line" size="small" /> {{ l.name }}</label>
        <ul>
          <li v-for="(c, i) in l.changes" :key="i">
            {{ c.what }}
            <button v-if="c.row" type="button" class="link" @click="emit('show', c.row, c.column)">{{ c.at }}</button>
          </li>
        </ul>
      </li>
    </ol>
    <div class="bar">
      <Button
        size="small" :label="label" :disabled="!chosen.length || !!busy" :loading="busy === 'decide'"
        @click="decide(chosen)" />
      <Button
        size="small" outlined severity="danger" label="Refuse all of it" :disabled="!!busy" @click="decide([])" />
      <span class="soft">The answer says line by line what you have taken.</span>
    </div>
    <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
  </section>
</template>

<style scoped>
.asked {
  padding: 10px 14px;
}
h2 {
  font-size: 14px;
  margin: 0 0 6px;
}
ol,
ul {
  margin: 0;
  padding: 0;
  list-style: none;
  font-size: 13px;
}
ol {
  display: grid;
  gap: 6px;
  margin-bottom: 10px;
}
label {
  display: flex;
  gap: 8px;
  align-items: center;
  font-weight: 600;
}
ul {
  padding-left: 26px;
}
</style>
