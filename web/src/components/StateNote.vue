<script setup lang="ts">
import Button from 'primevue/button'

import { ProblemError } from '../api/client'

// What a page shows instead of its content: loading, an error, or nothing yet.
const props = defineProps<{ error?: unknown; loading?: boolean; empty?: string }>()
defineEmits<{ retry: [] }>()
const problem = () => (props.error instanceof ProblemError ? props.error.problem : undefined)
</script>

<template>
  <div v-if="error" class="note error" role="alert">
    <strong>{{ problem()?.title ?? 'Something went wrong in this page' }}</strong>
    <p>{{ problem()?.detail ?? String(error) }}</p>
    <ul v-if="problem()?.findings?.length">
      <li v-for="(f, i) in problem()!.findings" :key="i">
        <b v-if="f.at">{{ f.at }}: </b>{{ f.message }} <span class="soft">{{ f.hint }}</span>
      </li>
    </ul>
    <p v-if="problem()?.request" class="soft">Request {{ problem()!.request }}: the service's log has more under this
      id.</p>
    <Button size="small" outlined label="Try again" @click="$emit('retry')" />
  </div>
  <div v-else-if="loading" class="note soft" role="status">Loading …</div>
  <div v-else-if="empty" class="note soft"><p>{{ empty }}</p><slot /></div>
</template>

<style scoped>
.note {
  padding: 26px;
  text-align: center;
}
.error {
  text-align: left;
  border-left: 3px solid var(--error);
  padding: 14px 18px;
}
.error p {
  margin: 4px 0 8px;
}
</style>
