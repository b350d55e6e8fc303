<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref } from 'vue'

import { api, data } from '../api/client'
import StateNote from '../components/StateNote.vue'

// Values that both sides changed, side by side with what they agreed on last.
const props = defineProps<{ id: number }>()
const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const {
  data: held,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['held-one', () => props.id],
  queryFn: () => data(api.GET('/api/v1/held/{id}', { params: { path: { id: props.id } } })),
})
const take = ref<Record<string, 'here' | 'there'>>({})
const name = (c: { line?: string; field: string }) => (c.line ? `line ${c.line} ${c.field}` : c.field)
const decide = useMutation({
  mutationFn: () =>
    data(api.POST('/api/v1/held/{id}/decide', { params: { path: { id: props.id } }, body: { fields: take.value } })),
  onSuccess: () => {
    emit('close')
    client.removeQueries({ queryKey: ['held-one'] })
    void client.invalidateQueries()
    setTimeout(() => void client.invalidateQueries(), 1500)
  },
})
const undecided = () => (held.value?.clashes ?? []).some((c) => !take.value[name(c)])
</script>

<template>
  <Dialog
    visible modal :header="`Both sides changed ${held?.number ?? 'an order'}`" :style="{ width: '760px' }"
    @update:visible="emit('close')">
    <StateNote v-if="error || isPending || !held" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else>
      <p>Choose whose value counts. Here is the order; {{ held.system }} has the record.</p>
      <table>
        <thead>
          <tr>
            <th scope="col">Value</th>
            <th scope="col">Agreed last</th>
            <th scope="col">Here</th>
            <th scope="col">In {{ held.system }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in held.clashes" :key="name(c)">
            <th scope="row">{{ name(c) }}</th><td class="soft">{{ c.agreed || 'blank' }}</td>
            <td>
              <label>
                <input v-model="take[name(c)]" type="radio" :name="name(c)"
                  value="here"> {{ c.here || 'blank' }}</label>
            </td>
            <td>
              <label>
                <input v-model="take[name(c)]" type="radio" :name="name(c)"
                  value="there"> {{ c.there || 'blank' }}</label>
            </td>
          </tr>
        </tbody>
      </table>
      <StateNote v-if="decide.error.value" :error="decide.error.value" @retry="decide.reset()" />
    </template>
    <template #footer>
      <Button text label="Cancel" @click="emit('close')" />
      <Button label="Decide" :disabled="undecided()" :loading="decide.isPending.value" @click="decide.mutate()" />
    </template>
  </Dialog>
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
}
th,
td {
  text-align: left;
  padding: 6px 10px;
  border-bottom: 1px solid var(--rule);
  vertical-align: top;
}
</style>
