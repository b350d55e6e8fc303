<script setup lang="ts">
import { computed } from 'vue'

import type { Sync } from '../api/client'
import { count } from '../format'
import WhenMark from '../components/WhenMark.vue'

// The way of a sync: what is read, the orders here, what is written, each with its figures.
const props = defineProps<{ sync: Sync }>()
const pulls = computed(() => props.sync.pulls ?? [])
const pushes = computed(() => props.sync.pushes ?? [])
</script>

<template>
  <section class="sheet way" aria-label="The way of the sync">
    <ul>
      <li v-for="p in pulls" :key="p.name" :class="{ away: p.away || p.why }">
        <b><RouterLink :to="`/systems/${p.system}`">{{ p.system }}</RouterLink> {{ p.record }}</b>
        <span
          class="soft">{{ p.every ? `read every ${p.every.replace(/(\D)0[ms](0s)?$/, '$1')}` : 'read when asked' }}<template
          v-if="p.last_at">, last <WhenMark :at="p.last_at" />
          </template>
        </span>
        <span v-if="p.away" class="bad">does not answer since <WhenMark plain :at="p.away_since" />: {{ p.away }}</span>
        <span v-else-if="p.why" class="bad">{{ p.why }}</span>
      </li>
      <li v-if="!pulls.length" class="soft">reads nothing</li>
    </ul>
    <span class="arrow" aria-hidden="true">→</span>
    <div class="middle">
      <b>Orders here</b>
      <span class="soft">{{ sync.state.behind ? `${sync.state.behind} events to look at` : 'all looked at' }}</span>
      <span class="soft">figures: last day (last hour)</span>
    </div>
    <span class="arrow" aria-hidden="true">→</span>
    <ul>
      <li v-for="p in pushes" :key="p.name" :class="{ away: p.away || p.unanswered }">
        <b>
          <RouterLink :to="`/systems/${p.system}`">{{ p.system }}</RouterLink> {{ p.record }}</b> <span v-if="p.of"
            class="soft">of each {{ p.of }}</span>
        <span class="counts" title="In the last day; in brackets, in the last hour">{{ p.counts.created }} created
          ({{ p.hour.created }}), {{ p.counts.changed }} changed ({{ p.hour.changed }})<template
          v-if="p.counts.waiting">, <b>{{ p.counts.waiting }} waiting</b>
          </template>
          <template v-if="p.counts.held">, <b class="bad">{{ p.counts.held }} held</b></template>
        </span>
        <span v-if="p.which" class="soft which" :title="p.which">{{ p.which }}</span>
        <span v-if="p.away" class="bad">does not answer since <WhenMark plain :at="p.away_since" />: {{ p.away }}</span>
        <span v-else-if="p.unanswered" class="bad">{{ count(p.unanswered, 'file') }} not answered, the oldest of
          <WhenMark plain :at="p.unanswered_since" />
        </span>
      </li>
      <li v-if="!pushes.length" class="soft">writes nothing</li>
    </ul>
  </section>
</template>

<style scoped>
.way {
  display: grid;
  grid-template-columns: minmax(0, 3fr) auto auto auto minmax(0, 4fr);
  gap: 14px;
  align-items: center;
  padding: 14px 18px;
  margin-bottom: 12px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 8px;
}
li,
.middle {
  display: grid;
  gap: 2px;
  padding: 8px 12px;
  border: 1px solid var(--rule);
  border-left: 3px solid var(--accent);
  border-radius: 3px;
}
li.away {
  border-left-color: var(--warning);
}
.middle {
  text-align: center;
  border-left-width: 1px;
  padding: 14px 18px;
}
.arrow {
  font-size: 20px;
  color: var(--ink-soft);
}
.bad {
  color: var(--warning);
}
.which {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-family: var(--mono, monospace);
  font-size: 12px;
}
@media (max-width: 800px) {
  .way {
    grid-template-columns: 1fr;
  }
  .arrow {
    display: none;
  }
}
</style>
