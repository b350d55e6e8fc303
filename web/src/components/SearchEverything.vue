<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data } from '../api/client'
import { search as searchDocs } from '../docs/pages'

// One field that finds orders, documents, loads, interchanges, partners, mappings, lists, systems, syncs and the documentation.
interface Hit {
  kind: string
  title: string
  about: string
  to: string
}

const router = useRouter()
const query = ref('')
const hits = ref<Hit[]>([])
const busy = ref(false)
const chosen = ref(0)
const box = useTemplateRef('box') // always in the page, so that what is typed at once after the key is in the field
const most = 6

// What there are few of is read once for each time that the field is opened.
let few: Promise<Hit[]> | undefined
async function named(): Promise<Hit[]> {
  const quiet = <T,>(p: Promise<T>) => p.catch(() => undefined) // what one may not see is not found
  const [partners, mappings, lists, crosswalks, systems, syncs, documents, loads] = await Promise.all([
    quiet(data(api.GET('/api/v1/partners'))),
    quiet(data(api.GET('/api/v1/mappings'))),
    quiet(data(api.GET('/api/v1/lists'))),
    quiet(data(api.GET('/api/v1/crosswalks'))),
    quiet(data(api.GET('/api/v1/systems'))),
    quiet(data(api.GET('/api/v1/syncs'))),
    quiet(data(api.GET('/api/v1/documents', { params: { query: { limit: 200 } } }))),
    quiet(data(api.GET('/api/v1/loads', { params: { query: { limit: 200 } } }))),
  ])
  return [
    ...(partners?.items ?? []).map((p) => ({
      kind: 'Partner',
      title: p.name,
      about: p.about ?? '',
      to: `/exchange?partner=${encodeURIComponent(p.name)}`,
    })),
    ...(mappings?.items ?? []).map((m) => ({
      kind: 'Mapping',
      title: m.name,
      about: m.about ?? '',
      to: `/mappings/${m.name}`,
    })),
    ...(lists?.items ?? []).map((l) => ({ kind: 'List', title: l.name, about: '', to: `/lists/lists/${l.name}` })),
    ...(crosswalks?.items ?? []).map((l) => ({
      kind: 'Crosswalk',
      title: l.name,
      about: '',
      to: `/lists/crosswalks/${l.name}`,
    })),
    ...(systems?.items ?? []).map((s) => ({
      kind: 'System',
      title: s.name,
      about: s.about ?? '',
      to: `/systems/${s.name}`,
    })),
    ...(syncs?.items ?? []).map((s) => ({ kind: 'Sync', title: s.name, about: s.about ?? '', to: `/syncs/${s.name}` })),
    ...(documents?.items ?? []).map((d) => ({
      kind: 'Document',
      title: d.name,
      about: d.received_at.slice(0, 10),
      to: `/documents/${d.sha}`,
    })),
    ...(loads?.items ?? []).map((l) => ({
      kind: 'Load',
      title: `Load ${l.id}`,
      about: `${l.document_name} through ${l.mapping}`,
      to: `/loads/${l.id}`,
    })),
  ]
}

async function find(q: string): Promise<Hit[]> {
  const words = q.toLowerCase().split(/\s+/).filter(Boolean)
  few ??= named()
  const number = /^\d{1,15}$/.test(q) ? Number(q) : 0
  const [orders, known, interchange, docs] = await Promise.all([
    data(api.GET('/api/v1/orders', { params: { query: { text: q, limit: most } } })).catch(() => undefined),
    few,
    number
      ? data(api.GET('/api/v1/interchanges/{id}', { params: { path: { id: number } } })).catch(() => undefined)
      : undefined,
    searchDocs(q),
  ])
  const counts = new Map<string, number>()
  const some = known.filter((h) => {
    const n = counts.get(h.kind) ?? 0
    const fits = words.every((w) => `${h.kind} ${h.title} ${h.about}`.toLowerCase().includes(w))
    if (fits) counts.set(h.kind, n + 1)
    return fits && n < most
  })
  return [
    ...(orders?.items ?? []).map((o) => ({
      kind: 'Order',
      title: o.number ?? '',
      about: `${o.kind}, ${o.partner}, ${o.sender_number ?? ''} ${o.status}`,
      to: `/orders/${o.id}`,
    })),
    ...(interchange
      ? [
          {
            kind: 'Interchange',
            title: `Interchange ${interchange.id}`,
            about: `${interchange.kinds} ${interchange.direction === 'in' ? 'from' : 'to'} ${interchange.partner}`,
            to: `/exchange/${interchange.id}`,
          },
        ]
      : []),
    ...some,
    ...docs
      .slice(0, most)
      .map((d) => ({ kind: 'Help', title: d.section.title, about: d.title, to: `/docs/${d.page}#${d.section.id}` })),
  ]
}

let timer: ReturnType<typeof setTimeout> | undefined
watch(query, (q) => {
  clearTimeout(timer)
  if (!q.trim()) {
    hits.value = []
    return
  }
  busy.value = true
  timer = setTimeout(async () => {
    const found = await find(q.trim())
    if (q !== query.value) return // there is a newer question
    hits.value = found
    chosen.value = 0
    busy.value = false
  }, 150)
})
const current = computed(() => hits.value[chosen.value])

function show() {
  if (box.value?.open) return
  query.value = ''
  hits.value = []
  few = undefined
  box.value?.showModal()
}
// The key that opens the search is never the beginning of a question, also not when it is pressed twice.
function refuseSlash(e: Event) {
  if (!query.value && (e as InputEvent).data === '/') e.preventDefault()
}
function go(h?: Hit) {
  if (!h) return
  box.value?.close()
  void router.push(h.to)
}
function move(by: number) {
  chosen.value = Math.min(hits.value.length - 1, Math.max(0, chosen.value + by))
  void nextTick(() => document.getElementById(`hit-${chosen.value}`)?.scrollIntoView({ block: 'nearest' }))
}
function onKey(e: KeyboardEvent) {
  const typing = (e.target as HTMLElement).closest('input, textarea, select, [contenteditable="true"]')
  if (
    (e.key === '/' && !typing && !e.ctrlKey && !e.metaKey && !e.altKey) ||
    (e.key === 'k' && (e.ctrlKey || e.metaKey))
  ) {
    e.preventDefault()
    show()
  }
}
onMounted(() => window.addEventListener('keydown', onKey))
onUnmounted(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <Button size="small" text severity="secondary" aria-label="Search everything" aria-keyshortcuts="/" @click="show">Search <kbd>/</kbd></Button>
  <dialog ref="box" closedby="any" aria-label="Search everything" @close="hits = []">
    <InputText
      v-model="query" autofocus class="field" autocomplete="off" placeholder="Number of an order, partner, file, load, mapping, or a question …" aria-label="Search everything"
      role="combobox" aria-controls="hits" aria-autocomplete="list" :aria-expanded="hits.length > 0" :aria-activedescendant="current ? `hit-${chosen}` : undefined"
      @beforeinput="refuseSlash" @keydown.down.prevent="move(1)" @keydown.up.prevent="move(-1)" @keydown.enter.prevent="go(current)"
    />
    <ul v-if="hits.length" id="hits" role="listbox" aria-label="What was found">
      <li v-for="(h, i) in hits" :id="`hit-${i}`" :key="i" role="option" :aria-selected="i === chosen" :class="{ chosen: i === chosen }" tabindex="-1" @click="go(h)" @keydown.enter="go(h)" @mousemove="chosen = i">
        <span class="kind">{{ h.kind }}</span><b>{{ h.title }}</b> <span class="soft">{{ h.about }}</span>
      </li>
    </ul>
    <p v-if="query.trim() && !busy && !hits.length" class="soft" role="status">Nothing is found. Orders are found by the beginning of a number or of a partner's code; documents and loads by their names, the newest 200.</p>
    <p v-else-if="!query.trim()" class="soft">Press <kbd>/</kbd> on any page to come here, the arrow keys to choose, and Enter to open.</p>
  </dialog>
</template>

<style scoped>
dialog {
  width: 46rem;
  max-width: 94vw;
  margin-top: 8vh;
  padding: 14px 16px;
  border: 1px solid var(--rule);
  border-radius: 6px;
  background: var(--paper);
  color: var(--ink);
}
dialog::backdrop {
  background: rgb(0 0 0 / 40%);
}
.field {
  width: 100%;
}
ul {
  list-style: none;
  margin: 10px 0 0;
  padding: 0;
  max-height: 60vh;
  overflow: auto;
}
li {
  padding: 6px 8px;
  cursor: pointer;
  border-radius: 3px;
}
li.chosen {
  background: var(--accent-wash);
}
li.chosen .kind,
li.chosen .soft {
  color: var(--ink);
}
.kind {
  display: inline-block;
  width: 92px;
  color: var(--ink-soft);
  font-size: 12px;
}
</style>
