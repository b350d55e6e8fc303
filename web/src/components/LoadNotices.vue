<script setup lang="ts">
import Toast from 'primevue/toast'
import { useToast } from 'primevue/usetoast'
import { onMounted, onUnmounted } from 'vue'
import { useRoute } from 'vue-router'

import { api, data, type Load, ProblemError } from '../api/client'
import { followed, leave } from '../followed'
import { active, count, loadWord } from '../format'

// Notices of loads that end while the reader looks at something else. What went well goes away by itself.
const route = useRoute()
const toast = useToast()
const asked = 2000

function say(l: Load) {
  if (route.path === `/loads/${l.id}`) return
  const failed = l.refused + l.withheld + l.held
  const good = l.status === 'done' && !failed
  const figures = [
    [l.loaded + l.ready, 'good'],
    [l.changed + l.differs, 'changed'],
    [l.unchanged, 'unchanged'],
    [failed, 'failed'],
  ] as const
  toast.add({
    severity: good ? 'success' : 'warn',
    life: good ? 15_000 : undefined,
    load: l.id,
    summary: `Load ${l.id} of ${l.document_name}: ${loadWord(l)}`,
    detail:
      l.status === 'done'
        ? `${count(l.orders, 'order')}: ${
            figures
              .filter(([n]) => n)
              .map(([n, word]) => `${n.toLocaleString('en')} ${word}`)
              .join(', ') || 'nothing to do'
          }.`
        : l.reason,
  } as Parameters<typeof toast.add>[0])
}

async function look() {
  for (const id of [...followed]) {
    try {
      const { load } = await data(api.GET('/api/v1/loads/{id}', { params: { path: { id } } }))
      if (active(load)) continue
      leave(id)
      say(load)
    } catch (e) {
      if (e instanceof ProblemError && e.problem.status) leave(id) // it is gone, or not ours to see; a service that is away is asked again
    }
  }
}
let timer: ReturnType<typeof setTimeout>
async function round() {
  await look()
  timer = setTimeout(round, asked)
}
onMounted(() => (timer = setTimeout(round, asked)))
onUnmounted(() => clearTimeout(timer))
</script>

<template>
  <Toast position="bottom-right">
    <template #message="{ message }">
      <div class="notice">
        <b>{{ message.summary }}</b>
        <p>{{ message.detail }}</p>
        <RouterLink :to="`/loads/${(message as unknown as { load: number }).load}`">Open the load</RouterLink>
      </div>
    </template>
  </Toast>
</template>

<style scoped>
.notice {
  flex: 1;
  font-size: 13px;
  overflow-wrap: anywhere;
}
.notice p {
  margin: 3px 0;
}
</style>
