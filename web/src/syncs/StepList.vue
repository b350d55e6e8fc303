<script setup lang="ts">
import type { PushStep } from '../api/client'

// The calls of a push, with the values that became others.
defineProps<{ steps?: PushStep[] | null }>()
const trial: Record<string, string> = {
  good: 'the system would do it',
  refused: 'the system refuses it',
  unknown: 'the system cannot be asked yet',
}
</script>

<template>
  <ol v-if="steps?.length" class="steps">
    <li v-for="(s, i) in steps" :key="i">
      {{ s.does }} <span v-if="s.method" class="soft">{{ s.method }} {{ s.path }}</span>
      <span v-if="s.trial" :class="s.trial === 'refused' ? 'why' : 'soft'">, {{ trial[s.trial] }}</span>
      <div v-for="w in s.warnings" :key="w" class="why">The system warns: {{ w }}</div>
      <ul v-if="s.changes?.length">
        <li v-for="(c, n) in s.changes" :key="n">{{ c.line ? `line ${c.line} ` : '' }}{{ c.field }}:
          {{ c.was || 'blank' }} → <b>{{ c.is || 'blank' }}</b>
        </li>
      </ul>
    </li>
  </ol>
</template>

<style scoped>
.steps {
  margin: 0;
  padding-left: 18px;
}
.steps ul {
  margin: 0;
  padding-left: 16px;
}
.why {
  color: var(--warning);
}
</style>
