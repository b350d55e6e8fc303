<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

import { api, data } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { queryOf, type Which, whichOf } from './which'

// Filters of orders under names. They are the exports that are kept: "koinos order export --saved NAME" writes the same
// orders as a table.
const which = defineModel<Which>({ required: true })
const { data: kept, refetch } = useQuery({ queryKey: ['exports'], queryFn: () => data(api.GET('/api/v1/exports')) })
const names = computed(() => (kept.value?.items ?? []).map((e) => e.name))
const chosen = ref<string>()
const naming = ref(false)
const name = ref('')
const note = ref('')
const { busy, failed, act } = useBusy()
const valid = computed(() => /^[a-z0-9][a-z0-9-]{0,79}$/.test(name.value))

function use(n: string) {
  const of = kept.value?.items.find((e) => e.name === n)
  if (!of) return
  const { which: w, rest } = whichOf(of.choice)
  Object.assign(which.value, w)
  note.value = rest.length ? `This view is narrowed to ${rest.join(', ')}; the list here shows more.` : ''
}
const save = () =>
  act('save', async () => {
    await data(api.PUT('/api/v1/exports/{name}', { params: { path: { name: name.value } }, body: { choice: new URLSearchParams(queryOf(which.value)).toString() } }))
    await refetch()
    chosen.value = name.value
    naming.value = false
    name.value = ''
  })
const forget = () =>
  act('forget', async () => {
    await data(api.DELETE('/api/v1/exports/{name}', { params: { path: { name: chosen.value! } } }))
    chosen.value = undefined
    await refetch()
  })
</script>

<template>
  <Select v-if="names.length" v-model="chosen" size="small" :options="names" placeholder="Saved views" aria-label="Saved views" @change="use($event.value)" />
  <Button v-if="chosen" size="small" text severity="secondary" label="Forget it" :loading="busy === 'forget'" @click="forget" />
  <Button v-if="!naming" size="small" text label="Save this view …" @click="naming = true" />
  <form v-else class="bar" @submit.prevent="save">
    <InputText v-model="name" size="small" placeholder="a-name-like-this" aria-label="Name of the view" autofocus />
    <Button size="small" type="submit" label="Save" :disabled="!valid" :loading="busy === 'save'" />
    <Button size="small" text label="Close" @click="naming = false" />
  </form>
  <span v-if="note" class="soft">{{ note }}</span>
  <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
</template>
