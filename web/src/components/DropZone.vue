<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'

import { kinds, useTaking } from '../taking'
import StateNote from './StateNote.vue'

// Where an order document is dropped or chosen.
const { take, sending, failed } = useTaking()
const chooser = ref<HTMLInputElement>()
const over = ref(false)
async function chosen(e: Event) {
  const input = e.target as HTMLInputElement
  await take(input.files)
  input.value = '' // the same file can be chosen once more
}
function dropped(e: DragEvent) {
  over.value = false
  void take(e.dataTransfer?.files)
}
function chooseAgain() {
  failed.value = undefined
  chooser.value?.click()
}
</script>

<template>
  <div
    class="drop sheet" role="region" aria-label="Where documents are dropped" :class="{ over }"
    @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent.stop="dropped">
    <div>
      <h1>{{ sending ? `Sending ${sending} …` : 'Drop an order document here' }}</h1>
      <p class="soft">A workbook (.xlsx, .xlsm, .ods), a CSV or other text, JSON, or an X12 interchange, as the partner
        sent it. It is kept byte for byte; nothing is loaded before you say so.</p>
    </div>
    <Button class="choose" label="Choose a file" :loading="!!sending" @click="chooser?.click()" />
    <input
      ref="chooser" type="file" aria-label="A document from this computer" :accept="kinds" hidden @change="chosen" />
  </div>
  <StateNote v-if="failed" :error="failed" class="sheet failed" @retry="chooseAgain" />
</template>

<style scoped>
.drop {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 20px;
  padding: 22px 26px;
  border: 2px dashed var(--rule);
}
.choose {
  flex: none;
}
.drop p {
  margin: 4px 0 0;
}
.over {
  border-color: var(--accent);
  background: var(--accent-wash);
}
.failed {
  margin-top: 12px;
}
</style>
