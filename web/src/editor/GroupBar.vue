<script setup lang="ts">
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { computed } from 'vue'

import type { Preview } from '../api/client'
import { at, goesWith, type Schema } from './suggest'
import * as edit from './text'

// What a record is and which rows make one. The words to choose from are those
// of the grammar, which the service gives as its schema.
const text = defineModel<string>({ required: true })
const props = defineProps<{
  outline: edit.Outline
  guesses: Map<string, string>
  columns: { value: string; label: string }[]
  preview?: Preview
  schema?: Schema
}>()

const words = (...path: string[]) => at(props.schema, path)?.enum ?? []
const noun = computed(() =>
  !props.outline.kind || ['sales', 'purchase'].includes(props.outline.kind) ? 'order' : props.outline.kind,
)
const group = computed(() => at(props.schema, ['orders', 'group']))
const has = (word: string) => goesWith(group.value, word, props.outline.by)
const regroup = (by: string, columns = props.outline.columns, rows = props.outline.rows) =>
  (text.value = edit.setGroup(text.value, { by, columns, rows }, (word, of) => goesWith(group.value, word, of)))
</script>

<template>
  <div class="bar group">
    <span v-if="outline.extends" class="soft">What is not said here is as in <code>{{ outline.extends }}</code>, which
      ships with Koinos.</span>
    <template v-else>
      <label>A record is <Select size="small" :model-value="outline.kind" :options="words('orders', 'kind')"
        aria-label="What a record is" @update:model-value="text = edit.setKind(text, $event)" />
        <span v-if="guesses.has('orders.kind')" class="warn" :title="guesses.get('orders.kind')">?</span>
      </label>
      <label v-if="outline.of || !['sales', 'purchase'].includes(outline.kind)">of <Select size="small"
        :model-value="outline.of" :options="words('orders', 'of')" placeholder="which orders?"
        aria-label="Which orders it is about" @update:model-value="text = edit.setOf(text, $event)" />
      </label>
      <label>and begins by <Select size="small" :model-value="outline.by" :options="words('orders', 'group', 'by')"
        aria-label="Grouping" @update:model-value="regroup($event)" />
      </label>
    </template>
    <label v-if="has('columns')">of <MultiSelect size="small" :model-value="outline.columns" :options="columns"
      option-label="label" option-value="value" filter :max-selected-labels="2" placeholder="no column"
      aria-label="Columns of the grouping" @update:model-value="regroup(outline.by, $event)" />
    </label>
    <label v-if="has('rows')">rows stand <Select size="small" :model-value="outline.rows || 'adjacent'"
      :options="words('orders', 'group', 'rows')" aria-label="Where rows of one order stand"
      @update:model-value="regroup(outline.by, undefined, $event)" />
    </label>
    <span v-if="guesses.has('orders.group')" class="warn">? {{ guesses.get('orders.group') }}</span>
    <span class="grow" />
    <span v-if="preview" role="status">
      <b>{{ preview.orders }}</b> {{ noun }}{{ preview.orders === 1 ? '' : 's' }},
        <b>{{ preview.lines }}</b> {{ preview.lines === 1 ? 'line' : 'lines' }}<template v-if="preview.refused">, <b
        class="err">{{ preview.refused }}</b> refused</template>
      <span v-if="!preview.complete" class="soft"> in the first {{ preview.rows.toLocaleString('en') }} rows</span>
    </span>
  </div>
</template>

<style scoped>
.group label {
  display: flex;
  gap: 6px;
  align-items: center;
  color: var(--ink-soft);
  font-size: 13px;
}
.err {
  color: var(--error);
}
.warn {
  color: var(--warning);
}
</style>
