<script setup lang="ts">
import { computed } from 'vue'

import { when } from '../format'
import { ago, now } from '../now'

// A moment in the reader's time zone: how long ago it was where that is less than an hour, and in full when it is pointed at. Plain is
// always the day and the time, as behind "since".
const props = defineProps<{ at?: string; plain?: boolean }>()
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
const text = computed(() => (props.at ? (!props.plain && ago(new Date(props.at), now.value)) || when(props.at) : ''))
const full = computed(() =>
  props.at ? `${when(props.at)}:${String(new Date(props.at).getSeconds()).padStart(2, '0')}, ${zone}` : '',
)
</script>

<template>
  <time v-if="at" :datetime="at" :title="full">{{ text }}</time>
</template>

<style scoped>
time {
  white-space: nowrap;
}
</style>
