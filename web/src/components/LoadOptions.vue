<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { reactive, watch } from 'vue'

import type { Options } from '../api/client'

// What can be asked of a load besides its document and mapping.
const model = defineModel<Options>({ required: true })
const form = reactive({
  again: 'usual',
  stage: 'open',
  opening: false,
  rows: '',
  orders: '',
  stop: '',
  defaults: '',
  note: '',
})
const words = (text: string) =>
  text
    .split(/[,\n]/)
    .map((w) => w.trim())
    .filter(Boolean)
watch(form, (f) => {
  const o: Options = { all_or_none: model.value.all_or_none }
  if (f.again !== 'usual') o.again = f.again as Options['again']
  if (f.stage !== 'open') o.stage = f.stage as Options['stage']
  if (f.opening) o.opening = true
  if (f.rows.trim()) o.only_rows = words(f.rows)
  if (f.orders.trim()) o.only_orders = words(f.orders)
  if (Number(f.stop) > 0) o.stop_after = Math.floor(Number(f.stop))
  if (f.note.trim()) o.note = f.note.trim()
  const defaults = Object.fromEntries(
    words(f.defaults)
      .map((w) => w.split('=', 2).map((s) => s.trim()))
      .filter((p) => p.length === 2),
  )
  if (Object.keys(defaults).length) o.defaults = defaults
  model.value = o
})
const again = [
  { word: 'usual', about: 'as the mapping says' },
  { word: 'refuse', about: 'refuse it' },
  { word: 'skip', about: 'skip it when equal, else refuse it' },
  { word: 'update', about: 'change the bound fields' },
  { word: 'revise', about: 'take a newer one in its place' },
]
const stages = [
  { word: 'open', about: 'open' },
  { word: 'draft', about: 'draft' },
  { word: 'confirmed', about: 'confirmed' },
]
</script>

<template>
  <details>
    <summary>More</summary>
    <div class="form">
      <label for="o-again">An order that is stored already</label>
      <Select
        v-model="form.again" input-id="o-again" size="small" :options="again" option-label="about"
        option-value="word" />
      <label for="o-stage">New orders are</label>
      <Select
        v-model="form.stage" input-id="o-stage" size="small" :options="stages" option-label="about"
        option-value="word" />
      <label for="o-rows">Only rows</label>
      <InputText id="o-rows" v-model="form.rows" size="small" placeholder="12, 20-35, 40-" />
      <label for="o-orders">Only orders</label>
      <InputText id="o-orders" v-model="form.orders" size="small" placeholder="sender's numbers" />
      <label for="o-defaults">Where blank</label>
      <InputText id="o-defaults" v-model="form.defaults" size="small" placeholder="currency=EUR, lines.unit=PCE" />
      <label for="o-stop">Stop after</label>
      <InputText id="o-stop" v-model="form.stop" size="small" placeholder="so many failed orders" inputmode="numeric" />
      <label for="o-note">Note</label><InputText id="o-note" v-model="form.note" size="small" />
      <label for="o-opening">Opening orders</label>
      <span class="check">
        <Checkbox v-model="form.opening" binary input-id="o-opening" /> <span class="soft">keep the sender's numbers,
          pass nothing on</span>
      </span>
      <RouterLink to="/docs/loading#options-of-a-load" target="_blank">What these do</RouterLink>
    </div>
  </details>
</template>

<style scoped>
summary {
  cursor: pointer;
  color: var(--accent);
}
.form {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 6px 10px;
  align-items: center;
  margin-top: 8px;
  font-size: 13px;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
