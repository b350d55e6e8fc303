<script setup lang="ts">
import Button from 'primevue/button'

import { useTaking } from '../taking'
import DropZone from './DropZone.vue'
import StateNote from './StateNote.vue'

// What a service without orders shows first: how to get from a file to orders.
const { takeExample, sending, failed } = useTaking()
</script>

<template>
  <section class="first">
    <h1>Load your first orders</h1>
    <ol class="soft">
      <li>Drop a file with orders, as a partner sent it.</li>
      <li>Koinos drafts a mapping: which column is what, and which rows make one order. Look at it, and correct it.</li>
      <li>Try it in a dry run: every row gets an answer. Then load it.</li>
    </ol>
    <DropZone />
    <p class="bar">
      <Button outlined label="Try it with an example" :loading="!!sending" @click="takeExample" />
      <span class="soft">A small CSV with titles above the table, a total below it, and one mistake.</span>
    </p>
    <StateNote v-if="failed" :error="failed" @retry="takeExample" />
    <p class="soft">The same <RouterLink to="/docs/getting-started">step by step</RouterLink>, and <RouterLink
      to="/docs/how-to">answers to first questions</RouterLink>. Orders also come in by a <RouterLink
      to="/docs/loading">watched folder</RouterLink>, from <RouterLink to="/docs/x12">partners by X12</RouterLink>, and
      from <RouterLink to="/docs/systems">other systems by their APIs</RouterLink>.</p>
  </section>
</template>

<style scoped>
.first {
  max-width: 900px;
  margin: 24px auto;
}
h1 {
  font-size: 24px;
  margin-bottom: 8px;
}
ol {
  padding-left: 20px;
  line-height: 1.7;
}
</style>
