<script setup lang="ts">
import type { Comparison } from '../api/client'
import { fieldName } from '../format'

// How the orders of a document differ between two mappings.
defineProps<{ effect: Comparison }>()
</script>

<template>
  <p>Of {{ effect.orders }} orders {{ effect.same }} are the same, <b>{{ effect.effects.length }}</b> differ.</p>
  <table v-if="effect.effects.length">
    <thead><tr><th>Order</th><th>Outcome</th><th>Field</th><th>Was</th><th>Is</th></tr></thead>
    <tbody v-for="(e, i) in effect.effects.slice(0, 100)" :key="i">
      <tr v-for="(c, k) in e.changes?.length ? e.changes.slice(0, 12) : [undefined]" :key="k">
        <td><b v-if="k === 0">{{ e.order }}</b></td>
        <td>
          <template
            v-if="k === 0">{{ !e.was ? `new, ${e.is}` : !e.is ? `gone, was ${e.was}` : e.was === e.is ? e.is : `${e.was} → ${e.is}` }}</template>
        </td>
        <template v-if="c">
          <td>{{ c.line ? `line ${c.line} ` : '' }}{{ fieldName(c.field) }}</td>
          <td class="was">{{ c.was || '(blank)' }}</td>
          <td>{{ c.is || '(blank)' }}</td>
        </template>
        <td v-else colspan="3" />
      </tr>
      <tr v-if="(e.changes?.length ?? 0) > 12">
        <td colspan="2" />
        <td colspan="3" class="soft">and {{ e.changes!.length - 12 }} more fields</td>
      </tr>
    </tbody>
  </table>
  <p v-if="effect.effects.length > 100" class="soft">and {{ effect.effects.length - 100 }} more orders</p>
</template>

<style scoped>
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
</style>
