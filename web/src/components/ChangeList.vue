<script setup lang="ts">
import { useInfiniteQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, data, type Outcome } from '../api/client'
import { fieldName } from '../format'
import StateNote from './StateNote.vue'

// What a load changed in stored orders, or would: order by order, field by field.
const props = defineProps<{ load: number; dry: boolean }>()
const emit = defineEmits<{ go: [row: number]; order: [seq: number] }>()
const {
  data: pages,
  error,
  isPending,
  refetch,
  fetchNextPage,
  hasNextPage,
  isFetchingNextPage,
} = useInfiniteQuery({
  queryKey: ['changes', () => props.load],
  initialPageParam: '',
  queryFn: ({ pageParam }) =>
    data(
      api.GET('/api/v1/loads/{id}/orders', {
        params: {
          path: { id: props.load },
          query: { outcome: props.dry ? 'differs' : 'changed', limit: 50, cursor: pageParam || undefined },
        },
      }),
    ),
  getNextPageParam: (page) => page.next,
})
const orders = computed<Outcome[]>(() => pages.value?.pages.flatMap((p) => p.items) ?? [])
</script>

<template>
  <div class="changes">
    <StateNote
      v-if="error || isPending || !orders.length" :error="error" :loading="isPending"
      empty="No stored order is changed." @retry="refetch()" />
    <template v-else>
      <p
        class="soft">{{ dry ? 'These orders are stored; loading would change them:' : 'These orders were stored before; this load changed them:' }}</p>
      <table>
        <thead><tr><th>Order</th><th>Field</th><th>Was</th><th>{{ dry ? 'Would be' : 'Is' }}</th></tr></thead>
        <tbody v-for="o in orders" :key="o.seq">
          <tr v-for="(c, i) in o.changes?.slice(0, 20)" :key="i">
            <td>
              <button v-if="i === 0" type="button" class="link" @click="emit('order', o.seq)">{{ o.number }}</button>
              <span v-if="i === 0" class="soft their">{{ o.sender_number }}</span>
            </td>
            <td>{{ c.line ? `line ${c.line} ` : '' }}{{ fieldName(c.field) }}</td>
            <td class="was">{{ c.was || '(blank)' }}</td>
            <td>
              <button v-if="c.place?.row" type="button" class="link" :title="c.at"
                @click="emit('go', c.place!.row!)">{{ c.is || '(blank)' }}</button>
              <template v-else>{{ c.is || '(blank)' }}</template>
            </td>
          </tr>
        </tbody>
      </table>
      <Button
        v-if="hasNextPage" size="small" text label="Show more" :loading="isFetchingNextPage" @click="fetchNextPage()" />
    </template>
  </div>
</template>

<style scoped>
.changes {
  padding: 12px 14px;
}
p {
  margin: 0 0 6px;
}
table {
  border-collapse: collapse;
  width: 100%;
  font-size: 13px;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  border-bottom: 1px solid var(--rule);
  padding: 3px 8px 3px 0;
}
td {
  padding: 2px 8px 2px 0;
  vertical-align: top;
}
tbody tr:first-child td {
  border-top: 1px solid var(--rule-soft);
}
.was {
  color: var(--ink-soft);
  text-decoration: line-through;
}
.their {
  margin-left: 8px;
}
</style>
