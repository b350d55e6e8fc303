<script setup lang="ts" generic="T extends string | number">
import { nextTick, ref } from 'vue'

// Tabs as the ARIA practice has them: one of them takes the focus, arrow keys,
// Home and End move it and open what they come to.
const props = defineProps<{ tabs: { id: T; label: string }[]; panel: string; label: string }>()
const open = defineModel<T>({ required: true })
const strip = ref<HTMLElement>()

const moves: Record<string, (at: number, n: number) => number> = {
  ArrowRight: (at, n) => (at + 1) % n,
  ArrowLeft: (at, n) => (at + n - 1) % n,
  Home: () => 0,
  End: (_, n) => n - 1,
}
async function onKey(e: KeyboardEvent) {
  const move = moves[e.key]
  if (!move || e.ctrlKey || e.metaKey || e.altKey) return
  e.preventDefault()
  const at = Math.max(
    0,
    props.tabs.findIndex((t) => t.id === open.value),
  )
  open.value = props.tabs[move(at, props.tabs.length)]!.id
  await nextTick()
  strip.value?.querySelector<HTMLElement>('[aria-selected="true"]')?.focus()
}
</script>

<template>
  <div class="strip">
    <div ref="strip" class="tabs" role="tablist" tabindex="-1" :aria-label="label" @keydown="onKey">
      <button
        v-for="t in tabs" :id="`${panel}-${t.id}`" :key="t.id" type="button" role="tab" :aria-selected="t.id === open" :aria-controls="panel"
        :tabindex="t.id === open || (tabs[0]?.id === t.id && !tabs.some((x) => x.id === open)) ? 0 : -1" @click="open = t.id"
      ><slot :tab="t">{{ t.label }}</slot></button>
    </div>
    <span class="grow" /><slot name="end" />
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  align-items: center;
}
.tabs {
  display: flex;
  gap: 2px;
  flex-wrap: wrap;
}
.tabs button {
  font: inherit;
  color: var(--ink-soft);
  background: none;
  border: 1px solid transparent;
  border-bottom: 0;
  padding: 5px 12px;
  cursor: pointer;
  border-radius: 3px 3px 0 0;
}
.tabs button[aria-selected='true'] {
  color: var(--ink);
  background: var(--paper);
  border-color: var(--rule);
}
.grow {
  flex: 1;
}
</style>
