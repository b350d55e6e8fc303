<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, type Renamed } from '../api/client'
import StateNote from './StateNote.vue'

// What uses a mapping, list or crosswalk, and its name: changed here, it changes in all that uses it.
const props = defineProps<{ kind: 'mappings' | 'lists' | 'crosswalks'; name: string }>()
const router = useRouter()
const queries = useQueryClient()
const params = computed(() => ({ path: { name: props.name } }))
const {
  data: uses,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['uses', () => props.kind, () => props.name],
  queryFn: () => data(api.GET(`/api/v1/${props.kind}/{name}/uses`, { params: params.value })),
})
const word = computed(() => props.kind.slice(0, -1))
const page = (name: string) => pages[word.value] + name
const pages: Record<string, string> = {
  mapping: '/mappings/',
  list: '/lists/lists/',
  crosswalk: '/lists/crosswalks/',
  system: '/systems/',
  sync: '/syncs/',
}
const to = ref('')
const sure = ref(false)
const busy = ref(false)
const failed = ref<unknown>()
const done = ref<Renamed>()
const needed = computed(() => (uses.value?.items ?? []).filter((u) => u.kind !== 'check'))
async function act(what: () => Promise<void>) {
  busy.value = true
  failed.value = undefined
  try {
    await what()
    await queries.invalidateQueries()
  } catch (e) {
    failed.value = e
  } finally {
    busy.value = sure.value = false
  }
}
const rename = () =>
  act(async () => {
    done.value = await data(
      api.POST(`/api/v1/${props.kind}/{name}/rename`, { params: params.value, body: { to: to.value.trim() } }),
    )
    to.value = ''
    await router.replace(page(done.value.name))
  })
const remove = () =>
  act(async () => {
    await data(api.DELETE(`/api/v1/${props.kind}/{name}`, { params: params.value }))
    await router.replace(props.kind === 'mappings' ? '/mappings' : '/lists')
  })
</script>

<template>
  <section class="sheet names">
    <h2>Used by</h2>
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else>
      <ul v-if="uses!.items.length">
        <li v-for="u in uses!.items" :key="u.kind + u.name">
          <template v-if="u.kind === 'check'">The field {{ u.name }} of every order is looked up in a list of this
            name.</template>
          <template v-else>
            <span class="soft">{{ u.kind }}</span> <RouterLink v-if="pages[u.kind]"
              :to="pages[u.kind] + u.name">{{ u.name }}</RouterLink>
            <template v-else>{{ u.name }}</template>
          </template>
        </li>
      </ul>
      <p v-else class="soft">Nothing uses this {{ word }}.</p>
    </template>
    <h2>Name</h2>
    <p class="soft">A new name is written into everything that uses the {{ word }}, as a new version of each.</p>
    <form class="bar" @submit.prevent="rename">
      <InputText v-model="to" size="small" :placeholder="name" :aria-label="`New name of the ${word}`" />
      <Button
        type="submit" size="small" outlined label="Rename" :disabled="!to.trim() || to.trim() === name"
        :loading="busy" />
    </form>
    <p v-if="done" role="status" class="soft">Its name is {{ done.name }}
      now{{ done.changed.length ? `, in ${done.changed.map((c) => `${c.kind} ${c.name}`).join(', ')} too` : '' }}.</p>
    <div class="bar">
      <Button
        v-if="!sure" size="small" text severity="danger" :label="`Remove this ${word} …`"
        :disabled="isPending || needed.length > 0" @click="sure = true" />
      <template v-else>
        <Button size="small" severity="danger" label="Remove it" :loading="busy" @click="remove" />
        <Button size="small" text label="Keep it" @click="sure = false" />
      </template>
      <span
        class="soft">{{ needed.length ? 'Only what nothing uses can be removed.' : 'What was loaded with it stays.' }}</span>
    </div>
    <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
  </section>
</template>

<style scoped>
.names {
  padding: 12px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  align-items: flex-start;
}
.names p {
  margin: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding: 1px 0;
}
</style>
