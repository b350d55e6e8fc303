<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PagedTable from '../components/PagedTable.vue'
import { usePages } from '../paging'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ name: string }>()
const name = computed(() => props.name)
const list = usePages('hooks', [name], (cursor, limit) =>
  data(api.GET('/api/v1/systems/{name}/hooks', { params: { path: { name: name.value }, query: { limit, cursor } } })),
)
</script>

<template>
  <PagedTable
    :list="list" row-key="id"
    empty="No webhook has arrived yet. Its address is /hooks/ followed by the system's name; the description says how messages are signed.">
    <Column header="Webhook" field="id" />
    <Column header="Came"><template #body="{ data: h }"><WhenMark :at="h.at" /></template></Column>
    <Column header="Event" field="event" />
    <Column header="State"><template #body="{ data: h }"><OutcomeMark :word="h.state" /></template></Column>
    <Column header="Pull" class="right"><template #body="{ data: h }">{{ h.pull || '' }}</template></Column>
    <Column header="Its id" field="hook_id" />
  </PagedTable>
</template>
