<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, data, type Finding, type Reason } from '../api/client'
import { capital, count, fieldLabel } from '../format'

// A load's findings by reason: one line for four hundred of the same, opened
// to step through them one after another.
const props = defineProps<{ load: number; reasons: Reason[]; focus?: Finding }>()
const emit = defineEmits<{ go: [finding: Finding] }>()

const open = ref('')
const findings = ref<Finding[]>([])
const next = ref<string>()
const current = ref(-1)
const key = (r: Reason) => `${r.code} ${r.field ?? ''} ${r.severity}`
const groups = computed(() => [
  { title: 'What keeps orders out', reasons: props.reasons.filter((r) => r.severity === 'error') },
  { title: 'What to look at', reasons: props.reasons.filter((r) => r.severity === 'warning') },
])

async function more(r: Reason) {
  const page = await data(
    api.GET('/api/v1/loads/{id}/findings', {
      params: {
        path: { id: props.load },
        query: { code: r.code, field: r.field, severity: r.severity, limit: 50, cursor: next.value },
      },
    }),
  )
  // A reason without a field must not show those of the same code that have one.
  findings.value.push(...page.items.filter((f) => (f.field ?? '') === (r.field ?? '')))
  next.value = page.next
}

async function toggle(r: Reason) {
  if (open.value === key(r)) {
    open.value = ''
    return
  }
  open.value = key(r)
  findings.value = []
  next.value = undefined
  current.value = -1
  await more(r)
  step(1)
}

function go(i: number) {
  const f = findings.value[i]
  if (!f) return
  current.value = i
  emit('go', f)
}

/** step goes to the next finding of the open reason, or the one before. */
function step(by: number) {
  if (!open.value) {
    const first = groups.value.flatMap((g) => g.reasons)[0]
    if (first) void toggle(first)
    return
  }
  go(Math.min(findings.value.length - 1, Math.max(0, current.value + by)))
}
defineExpose({ step })
</script>

<template>
  <div class="reasons">
    <template v-for="g in groups" :key="g.title">
      <section v-if="g.reasons.length">
        <h2>{{ g.title }}</h2>
        <ul>
          <li v-for="r in g.reasons" :key="key(r)" :class="r.severity">
            <button type="button" class="reason" :aria-expanded="open === key(r)" @click="toggle(r)">
              <span class="times">{{ r.count.toLocaleString('en') }}</span>
              <span class="what">
                <b v-if="r.field">{{ fieldLabel(r.field) }}: </b>{{ r.field ? r.title : capital(r.title) }}
                <span class="soft"> · {{ r.orders ? count(r.orders, 'order') : 'the document' }}<template
                  v-if="r.count > 1 && r.values > 1">, {{ r.values }} values</template>
                </span>
                <span class="example">{{ r.example.at }} {{ r.example.message }}</span>
              </span>
            </button>
            <div v-if="open === key(r)" class="opened">
              <p class="hint">{{ r.example.hint }} <RouterLink :to="`/docs/findings#${r.code}`">Explained with an
                example</RouterLink>
              </p>
              <ol>
                <li v-for="(f, i) in findings" :key="i">
                  <button type="button" class="one" :class="{ current: i === current }" @click="go(i)">
                    <span class="at">{{ f.at || 'document' }}</span> {{ f.value || '(blank)' }}</button>
                </li>
              </ol>
              <Button v-if="next" size="small" text label="Show more" @click="more(r)" />
            </div>
          </li>
        </ul>
      </section>
    </template>
  </div>
</template>

<style scoped>
.reasons {
  padding: 12px 14px;
  display: flex;
  flex-direction: column;
  gap: 14px;
}
ul,
ol {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
}
.reason {
  display: grid;
  grid-template-columns: 52px 1fr;
  gap: 8px;
  width: 100%;
  text-align: left;
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-top: 1px solid var(--rule-soft);
  padding: 7px 4px;
  cursor: pointer;
}
.reason:hover {
  background: var(--accent-wash);
}
.times {
  font: 600 17px/1.2 var(--serif);
  text-align: right;
}
.error .times {
  color: var(--error);
}
.warning .times {
  color: var(--warning);
}
.example {
  display: block;
  color: var(--ink-soft);
  font-size: 12.5px;
  overflow: hidden;
  text-overflow: ellipsis;
  display: -webkit-box;
  -webkit-line-clamp: 2;
  -webkit-box-orient: vertical;
}
.opened {
  margin: 0 0 8px 60px;
}
.hint {
  margin: 2px 0 6px;
  padding-left: 8px;
  border-left: 2px solid var(--accent);
}
.opened ol {
  max-height: 190px;
  overflow: auto;
  border: 1px solid var(--rule-soft);
}
.one {
  width: 100%;
  display: flex;
  gap: 10px;
  font: inherit;
  font-size: 12.5px;
  color: inherit;
  background: none;
  border: 0;
  padding: 3px 8px;
  text-align: left;
  cursor: pointer;
  white-space: nowrap;
  overflow: hidden;
}
.one:hover,
.one.current {
  background: var(--accent-wash);
}
.at {
  min-width: 110px;
  color: var(--ink-soft);
}
</style>
