<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

import { api, data } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { filters, queryOf, type Which, whichOf } from './which'

// Filters of orders under names. They are the exports that are kept: "koinos order export --saved NAME" writes the same
// orders as a table.
const which = defineModel<Which>({ required: true })
const { data: kept, refetch } = useQuery({ queryKey: ['exports'], queryFn: () => data(api.GET('/api/v1/exports')) })
const names = computed(() => (kept.value?.items ?? []).map((e) => e.name))
const chosen = ref<string>()
const naming = ref(false)
const name = ref('')
const sure = ref(false) // that a view shall be forgotten
const { busy, failed, act } = useBusy()
const valid = computed(() => /^[a-z0-9][a-z0-9-]{0,79}$/.test(name.value))

function use(n: string) {
  const of = kept.value?.items.find((e) => e.name === n)
  if (!of) return
  sure.value = false
  Object.assign(which.value, whichOf(of.choice))
}
const save = () =>
  act('save', async () => {
    const was = kept.value?.items.find((e) => e.name === name.value)
    const choice = new URLSearchParams(was?.choice) // its columns and layout stay
    for (const filter of filters) choice.delete(filter)
    for (const [k, v] of Object.entries(queryOf(which.value))) choice.set(k, v)
    await data(
      api.PUT('/api/v1/exports/{name}', {
        params: { path: { name: name.value } },
        body: { choice: choice.toString() },
      }),
    )
    await refetch()
    chosen.value = name.value
    naming.value = false
    name.value = ''
  })
const forget = () =>
  act('forget', async () => {
    await data(api.DELETE('/api/v1/exports/{name}', { params: { path: { name: chosen.value! } } }))
    chosen.value = undefined
    sure.value = false
    await refetch()
  })
</script>

<template>
  <Select
    v-if="names.length" v-model="chosen" size="small" :options="names" placeholder="Saved views"
    aria-label="Saved views" @change="use($event.value)" />
  <Button
    v-if="chosen" size="small" text severity="secondary" :label="sure ? `Really forget ${chosen}?` : 'Forget it …'"
    :loading="busy === 'forget'" @click="sure ? forget() : (sure = true)" />
  <Button v-if="!naming" size="small" text label="Save this view …" @click="naming = true" />
  <form v-else class="bar" @submit.prevent="save">
    <InputText v-model="name" size="small" placeholder="a-name-like-this" aria-label="Name of the view" autofocus />
    <Button
      size="small" type="submit" :label="names.includes(name) ? 'Replace its filter' : 'Save'" :disabled="!valid"
      :loading="busy === 'save'" />
    <Button size="small" text label="Close" @click="naming = false" />
  </form>
  <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
</template>
