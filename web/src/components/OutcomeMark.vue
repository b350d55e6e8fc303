<script setup lang="ts">
// The word for an outcome or status, with its colour never alone in saying so.
defineProps<{ word: string }>()
const tone: Record<string, string> = {
  loaded: 'good',
  created: 'good',
  changed: 'good',
  right: 'good',
  ready: 'good',
  differs: 'good',
  confirmed: 'good',
  answers: 'good',
  active: 'good',
  delivered: 'good',
  taken: 'good',
  repeated: 'good',
  mapped: 'good',
  'all in': 'good',
  'all ready': 'good',
  complete: 'good',
  acknowledged: 'good',
  accepted: 'good',
  done: 'good',
  refused: 'error',
  failed: 'error',
  'does not answer': 'error',
  'some refused': 'error',
  rejected: 'error',
  'not acknowledged in time': 'error',
  'rejected by us': 'error',
  'rejected by them': 'error',
  'partly rejected by us': 'error',
  'partly rejected by them': 'error',
  'from an unknown sender': 'error',
  withheld: 'warning',
  away: 'warning',
  'not answered': 'warning',
  short: 'warning',
  withdrawn: 'warning',
  cancelled: 'warning',
  held: 'warning',
  'some held': 'warning',
  paused: 'warning',
  stopped: 'warning',
  partial: 'warning',
  running: 'accent',
  waiting: 'accent',
  open: 'accent',
  draft: 'accent',
  'errors noted': 'warning',
  noted: 'warning',
  'not yet acknowledged': 'accent',
  sent: 'accent',
  received: 'accent',
  'waits to leave': 'accent',
}
const sign: Record<string, string> = { good: '✓', error: '✕', warning: '!', accent: '•' }
</script>

<template>
  <span class="mark" :class="tone[word]">
    <span aria-hidden="true">{{ sign[tone[word] ?? ''] ?? '·' }}</span> {{ word }}</span>
</template>

<style scoped>
.mark {
  white-space: nowrap;
  color: var(--ink-soft);
}
.good {
  color: var(--good);
}
.error {
  color: var(--error);
}
.warning {
  color: var(--warning);
}
.accent {
  color: var(--accent);
}
</style>
