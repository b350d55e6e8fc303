<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'

// Newer and older pages of a list that the service pages by cursor. The model
// is the cursors of the pages gone through; the last one is shown.
const trail = defineModel<string[]>({ required: true })
defineProps<{ next?: string }>()
const page = computed(() => trail.value.length + 1)
</script>

<template>
  <div class="bar turner">
    <Button size="small" text label="Newer" :disabled="!trail.length" @click="trail = trail.slice(0, -1)" />
    <span class="soft">page {{ page }}</span>
    <Button size="small" text label="Older" :disabled="!next" @click="next && (trail = [...trail, next])" />
  </div>
</template>

<style scoped>
.turner { justify-content: center; padding: 6px; }
</style>
