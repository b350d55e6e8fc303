<script setup lang="ts">
import ProgressBar from 'primevue/progressbar'

import type { Load } from '../api/client'
import { span } from '../format'

// How far a load that has not ended has come.
defineProps<{ load: Load }>()
</script>

<template>
  <div class="state" role="status">
    <ProgressBar :value="Math.round(load.share * 100)" class="bar1" :show-value="false" />
    <span v-if="load.status === 'waiting'">waiting for other loads to end</span>
    <span v-else-if="load.status === 'paused'" class="warn">paused at {{ Math.round(load.share * 100) }} %:
      {{ load.reason }}</span>
    <template v-else>
      <span>{{ Math.round(load.share * 100) }} %</span>
      <span v-if="load.rows_a_second" class="soft">{{ load.rows.toLocaleString('en') }} rows,
        {{ load.rows_a_second.toLocaleString('en') }} a second<template v-if="load.seconds_left">, about
        {{ span(load.seconds_left) }} left</template>
      </span>
    </template>
  </div>
</template>

<style scoped>
.state {
  display: flex;
  gap: 10px;
  align-items: center;
  font-size: 13px;
}
.bar1 {
  flex: 1;
  min-width: 90px;
  height: 10px;
}
.warn {
  color: var(--warning);
}
</style>
