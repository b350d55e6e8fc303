<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import StateNote from '../components/StateNote.vue'
import { groups, pageOf, search, within, type Hit, type Page } from './pages'

// The documentation that came with this service.
const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const page = ref<Page>()
const missing = ref(false)
const query = ref('')
const hits = ref<Hit[]>([])
const body = ref<HTMLElement>()
const contents = computed(() => page.value?.sections.filter((s) => s.level === 2) ?? [])

watch(
  () => props.name,
  async (name) => {
    page.value = await pageOf(name)
    missing.value = !page.value
    if (page.value) document.title = `${page.value.title} · Koinos`
    query.value = ''
    await arrive()
  },
  { immediate: true },
)
watch(() => route.hash, arrive)
watch(query, async (q) => {
  const found = await search(q)
  if (q === query.value) hits.value = found // else there is a newer question
})

async function arrive() {
  await nextTick()
  const id = decodeURIComponent(route.hash.slice(1))
  const at = id ? body.value?.querySelector(`[id="${CSS.escape(id)}"]`) : null
  body.value?.querySelectorAll('tr.arrived').forEach((r) => r.classList.remove('arrived'))
  const row = at?.closest('tr')
  row?.classList.add('arrived')
  if (at) (row ?? at).scrollIntoView({ block: row ? 'center' : 'start' })
  else body.value?.scrollTo(0, 0)
}

// Links between pages do not load the console anew.
function follow(e: MouseEvent) {
  const href = (e.target as HTMLElement).closest('a')?.getAttribute('href')
  if (!href?.startsWith('/docs/') || e.ctrlKey || e.metaKey || e.shiftKey) return
  e.preventDefault()
  void router.push(href)
}
</script>

<template>
  <div class="page full docs">
    <aside>
      <InputText
        v-model="query" type="search" size="small" placeholder="Search the documentation …"
        aria-label="Search the documentation" />
      <nav aria-label="Documentation">
        <template v-for="g in groups" :key="g.title">
          <h2>{{ g.title }}</h2>
          <template v-for="p in g.pages" :key="p.name">
            <RouterLink :to="`/docs/${p.name}`" :class="{ here: within(name, p.name) }">{{ p.label }}</RouterLink>
            <ul v-if="p.name === name && contents.length > 1 && contents.length < 40">
              <li v-for="s in contents" :key="s.id">
                <RouterLink :to="`/docs/${name}#${s.id}`">{{ s.title }}</RouterLink>
              </li>
            </ul>
          </template>
        </template>
      </nav>
    </aside>
    <div ref="body" class="sheet text" tabindex="0" role="region" :aria-label="page?.title ?? 'Documentation'">
      <section v-if="query.trim()" aria-live="polite">
        <h1>{{ hits.length ? `Found for “${query.trim()}”` : `Nothing is found for “${query.trim()}”` }}</h1>
        <p v-if="!hits.length" class="soft">Try fewer words, or the name of a field, a command or a finding.</p>
        <ol v-else class="hits">
          <li v-for="(h, i) in hits" :key="i">
            <RouterLink :to="`/docs/${h.page}#${h.section.id}`"
              @click="query = ''">{{ h.section.title }}</RouterLink> <span class="soft">{{ h.title }}</span>
            <br />{{ h.snippet }}</li>
        </ol>
      </section>
      <StateNote
        v-else-if="missing" :error="{ status: 404, title: `There is no page “${name}” in the documentation.` }" />
      <!-- eslint-disable-next-line vuejs-accessibility/click-events-have-key-events, vuejs-accessibility/no-static-element-interactions -- the links within are what is clicked -->
      <article v-else @click="follow">
        <template v-for="s in page?.sections" :key="s.id">
          <component :is="`h${s.level}`" :id="s.id">{{ s.title }}</component>
          <!-- eslint-disable-next-line vue/no-v-html -- it is our own documentation, rendered when the console was built -->
          <div v-html="s.html" />
        </template>
      </article>
    </div>
  </div>
</template>

<style scoped>
:deep(tr.arrived) {
  background: var(--accent-wash);
}
.docs {
  display: grid;
  grid-template-columns: 250px minmax(0, 1fr);
  gap: 16px;
}
aside {
  display: flex;
  flex-direction: column;
  gap: 10px;
  min-height: 0;
}
aside nav {
  overflow: auto;
  min-height: 0;
  padding-right: 6px;
}
aside h2 {
  font: 600 12px var(--sans);
  color: var(--ink-soft);
  margin: 12px 0 4px;
}
aside h2:first-child {
  margin-top: 0;
}
aside a {
  display: block;
  padding: 2px 8px;
  text-decoration: none;
  border-left: 2px solid transparent;
}
aside a.here {
  border-left-color: var(--accent);
  background: var(--accent-wash);
  color: var(--ink);
}
aside ul {
  list-style: none;
  margin: 2px 0 6px;
  padding-left: 14px;
  font-size: 12.5px;
}
.text {
  overflow: auto;
  padding: 20px 32px 60px;
}
.text > * {
  max-width: 860px;
}
.text h1 {
  margin-bottom: 12px;
}
.text h2 {
  font-size: 18px;
  margin: 30px 0 8px;
}
.text h3 {
  font: 600 14.5px var(--serif);
  margin: 22px 0 6px;
}
.hits {
  padding-left: 20px;
}
.hits li {
  margin-bottom: 12px;
}
.text :deep(p),
.text :deep(li) {
  line-height: 1.55;
}
.text :deep(pre) {
  background: var(--desk);
  border: 1px solid var(--rule);
  border-radius: 3px;
  padding: 10px 12px;
  overflow: auto;
  font-size: 12.5px;
  line-height: 1.45;
}
.text :deep(figure) {
  margin: 12px 0;
}
.text :deep(figcaption) {
  font: 12px ui-monospace, 'DejaVu Sans Mono', monospace;
  color: var(--ink-soft);
}
.text :deep(figure pre) {
  margin-top: 4px;
}
.text :deep(img) {
  max-width: 100%;
  height: auto;
  border: 1px solid var(--rule);
}
.text :deep(code) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.92em;
}
.text :deep(:not(pre) > code) {
  background: var(--desk);
  border-radius: 2px;
  padding: 0 3px;
}
.text :deep(.wide) {
  overflow: auto;
}
.text :deep(table) {
  border-collapse: collapse;
  margin: 8px 0;
}
.text :deep(td),
.text :deep(th) {
  border-bottom: 1px solid var(--rule);
  padding: 5px 10px 5px 0;
  text-align: left;
  vertical-align: top;
}
@media (max-width: 900px) {
  .docs {
    grid-template-columns: minmax(0, 1fr);
  }
  aside nav {
    max-height: 30vh;
  }
}
</style>
