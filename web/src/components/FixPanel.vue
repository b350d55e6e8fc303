<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref, watch } from 'vue'

import { api, data, type Act } from '../api/client'
import { count, fieldName } from '../format'
import StateNote from './StateNote.vue'

// What would fix many findings of a load at once: each act is said here, and
// then the orders that failed, and only those, are loaded again.
const props = defineProps<{ load: number; failing: number; busy: boolean }>()
const emit = defineEmits<{ fix: [body: Fix]; retry: [] }>()
export interface Fix {
  crosswalks: Record<string, { theirs: string; ours: string }[]>
  means: Record<string, { theirs: string; ours: string }[]>
  lists: Record<string, { code: string; name: string }[]>
  dates: Record<string, string>
  accept: string[]
}

const {
  data: acts,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['acts', () => props.load],
  queryFn: () => data(api.GET('/api/v1/loads/{id}/acts', { params: { path: { id: props.load } } })),
})
const ours = reactive<Record<string, string>>({}) // by act and value
const chosen = reactive<Record<string, boolean>>({})
const forms = reactive<Record<string, string>>({})
watch(
  acts,
  (page) => {
    for (const a of page?.items ?? []) {
      if (a.kind === 'dates') forms[a.name] = ''
    }
  },
  { immediate: true },
)
const shown = ref<Record<string, number>>({})
const most = (a: Act) => shown.value[a.kind + a.name] ?? 12
const key = (a: Act, value: string) => `${a.kind} ${a.name} ${value}`

const fix = computed<Fix>(() => {
  const f: Fix = { crosswalks: {}, means: {}, lists: {}, dates: {}, accept: [] }
  for (const a of acts.value?.items ?? []) {
    if (a.kind === 'dates' && forms[a.name]?.trim()) f.dates[a.name] = forms[a.name]!.trim()
    if (a.kind === 'accept' && chosen[a.name]) f.accept.push(a.name)
    for (const v of a.values ?? []) {
      const said = ours[key(a, v.value)]?.trim()
      if (a.kind === 'crosswalk' && said) (f.crosswalks[a.name] ??= []).push({ theirs: v.value, ours: said })
      if (a.kind === 'list' && said) (f.means[a.field!] ??= []).push({ theirs: v.value, ours: said })
      if (a.kind === 'list' && !said && chosen[key(a, v.value)])
        (f.lists[a.name] ??= []).push({ code: v.value, name: '' })
    }
  }
  return f
})
const said = computed(
  () =>
    Object.keys(fix.value.crosswalks).length +
    Object.keys(fix.value.means).length +
    Object.keys(fix.value.lists).length +
    Object.keys(fix.value.dates).length +
    fix.value.accept.length,
)
const takeNearest = (a: Act) => a.values?.forEach((v) => v.nearest && (ours[key(a, v.value)] ||= v.nearest))
</script>

<template>
  <div class="fix">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else>
      <p v-if="!acts?.items.length" class="soft">No single fix would help many of these orders. Fix the document
        (<b>Only what failed</b> gives it in the partner's layout), the mapping, or the lists.</p>
      <section v-for="a in acts?.items" :key="a.kind + a.name">
        <h2>{{ a.about }}</h2>
        <p class="soft">{{ count(a.orders, 'order') }} · {{ count(a.findings, 'finding') }}</p>
        <label v-if="a.kind === 'accept'" class="check">
          <Checkbox v-model="chosen[a.name]" binary /> <span>It is all right this time:
            {{ a.values?.[0]?.value || a.name }}</span>
        </label>
        <div v-else-if="a.kind === 'dates'" class="bar">
          <span class="soft">{{ a.values?.slice(0, 4).map((v) => v.value).join(' · ') }}</span>
          <label :for="`form-${a.name}`">{{ fieldName(a.name) }} is written</label>
          <InputText :id="`form-${a.name}`" v-model="forms[a.name]" size="small" :placeholder="a.form" class="form" />
          <Button
            v-if="a.form && forms[a.name] !== a.form" size="small" text :label="`Take ${a.form}`"
            @click="forms[a.name] = a.form" />
        </div>
        <template v-else>
          <table>
            <thead>
              <tr>
                <th class="right">Times</th>
                <th>{{ a.kind === 'crosswalk' ? 'Theirs' : a.name ? 'Not in the list' : 'Not known' }}</th>
                <th>Ours</th>
                <th>Nearest</th>
                <th v-if="a.kind === 'list' && a.name">Add it</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="v in a.values?.slice(0, most(a))" :key="v.value">
                <td class="right">{{ v.count.toLocaleString('en') }}</td>
                <td class="value">{{ v.value }}</td>
                <td>
                  <InputText
                    v-model="ours[key(a, v.value)]" size="small" :aria-label="`Ours for ${v.value}`" class="ours" />
                </td>
                <td>
                  <button v-if="v.nearest" type="button" class="near" :title="`Take ${v.nearest}`"
                    @click="ours[key(a, v.value)] = v.nearest!">{{ v.nearest }}</button>
                </td>
                <td v-if="a.kind === 'list' && a.name">
                  <Checkbox
                    v-model="chosen[key(a, v.value)]" binary :disabled="!!ours[key(a, v.value)]"
                    :aria-label="`Add ${v.value} to the list`" />
                </td>
              </tr>
            </tbody>
          </table>
          <div class="bar">
            <Button
              v-if="(a.values?.length ?? 0) > most(a)" size="small" text
              :label="`Show ${a.values!.length - most(a)} more`" @click="shown[a.kind + a.name] = a.values!.length" />
            <Button
              v-if="a.values?.some((v) => v.nearest)" size="small" text label="Use every suggestion"
              @click="takeNearest(a)" />
          </div>
        </template>
      </section>
      <div class="bar foot">
        <Button
          :label="`Fix, and load ${count(failing, 'order')} again`" size="small" :disabled="!said" :loading="busy"
          @click="emit('fix', fix)" />
        <Button label="Only load them again" size="small" text :disabled="busy" @click="emit('retry')" />
      </div>
    </template>
  </div>
</template>

<style scoped>
.fix {
  padding: 12px 14px;
  display: flex;
  flex-direction: column;
  gap: 16px;
}
p {
  margin: 2px 0 6px;
}
table {
  border-collapse: collapse;
  font-size: 13px;
  width: 100%;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  border-bottom: 1px solid var(--rule);
  padding: 2px 10px 2px 0;
}
th.right {
  text-align: right;
}
td {
  padding: 2px 10px 2px 0;
  border-bottom: 1px solid var(--rule-soft);
}
.value {
  font-weight: 600;
}
.ours,
.form {
  width: 11em;
}
.near {
  font: inherit;
  color: var(--accent);
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
  text-decoration: underline;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
.foot {
  position: sticky;
  bottom: -1px;
  background: var(--paper);
  padding: 8px 0;
  border-top: 1px solid var(--rule);
}
</style>
