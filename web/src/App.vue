<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import { loginNeeded, signIn } from './api/client'
import LoadNotices from './components/LoadNotices.vue'
import SearchEverything from './components/SearchEverything.vue'
import StateNote from './components/StateNote.vue'
import { useTaking } from './taking'
import { dark, toggleDark } from './theme'

const pages = [
  { to: '/today', label: 'Today' },
  { to: '/documents', label: 'Documents' },
  { to: '/mappings', label: 'Mappings' },
  { to: '/loads', label: 'Loads' },
  { to: '/orders', label: 'Orders' },
  { to: '/exchange', label: 'Exchange' },
  { to: '/systems', label: 'Systems' },
  { to: '/syncs', label: 'Syncs' },
  { to: '/held', label: 'Held' },
  { to: '/lists', label: 'Lists' },
]
const route = useRoute()
const { take, failed } = useTaking() // what is dropped on any page; some take it themselves
const entered = ref('')
function submit() {
  signIn(entered.value)
  location.reload()
}
</script>

<template>
  <a class="skip" href="#main">Skip to the page</a>
  <header class="top">
    <RouterLink to="/" class="brand"><img src="/favicon.svg" alt="" width="22" height="22" /> Koinos</RouterLink>
    <nav aria-label="Pages">
      <RouterLink v-for="p in pages" :key="p.to" :to="p.to"
        :class="{ here: route.path.startsWith(p.to) }">{{ p.label }}</RouterLink>
    </nav>
    <span class="grow" />
    <SearchEverything />
    <RouterLink to="/docs" class="help" :class="{ here: route.path.startsWith('/docs') }">Help</RouterLink>
    <Button
      size="small" text severity="secondary" :label="dark ? 'Light' : 'Dark'"
      :aria-label="dark ? 'Use light colours' : 'Use dark colours'" @click="toggleDark" />
  </header>
  <main id="main" tabindex="-1" @dragover.prevent @drop.prevent="take($event.dataTransfer?.files)">
    <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
    <RouterView />
  </main>
  <LoadNotices />
  <Dialog
    :visible="loginNeeded !== ''" modal :closable="false" header="An access token is needed"
    :style="{ width: '30rem' }">
    <p class="soft">{{ loginNeeded }}</p>
    <form class="bar" @submit.prevent="submit">
      <InputText
        v-model="entered" type="password" autocomplete="off" autofocus placeholder="koinos_…" aria-label="Access token"
        class="grow" />
      <Button type="submit" label="Sign in" :disabled="!entered.trim()" />
    </form>
    <p class="soft">It is kept until this window is closed.</p>
  </Dialog>
</template>

<style scoped>
.top {
  display: flex;
  align-items: center;
  gap: 18px;
  height: 44px;
  padding: 0 20px;
  background: var(--paper);
  border-bottom: 1px solid var(--rule);
}
.brand {
  display: flex;
  align-items: center;
  gap: 8px;
  font: 600 17px var(--serif);
  color: var(--ink);
  text-decoration: none;
}
nav {
  display: flex;
  gap: 4px;
  align-self: stretch;
}
nav a {
  display: flex;
  align-items: center;
  padding: 0 12px;
  color: var(--ink-soft);
  text-decoration: none;
  border-bottom: 2px solid transparent;
  border-top: 2px solid transparent;
}
nav a:hover {
  color: var(--ink);
}
nav a.here {
  color: var(--ink);
  border-bottom-color: var(--accent);
}
.grow {
  flex: 1;
}
.help {
  color: var(--ink-soft);
  text-decoration: none;
}
.help:hover,
.help.here {
  color: var(--ink);
}
@media (max-width: 720px) {
  .top {
    gap: 8px;
    padding: 0 10px;
  }
  nav {
    min-width: 0;
    overflow-x: auto;
  }
  nav a {
    padding: 0 7px;
  }
}
main {
  height: calc(100% - 44px);
  overflow: auto;
  outline: none;
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  background: var(--paper);
  padding: 6px 10px;
  z-index: 9;
}
</style>
