<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type Finding = Schemas['Finding']
const columns: Column[] = [
  { key: 'severity', title: 'Severity', field: 'severity' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'subject', title: 'Subject', field: 'subject' },
  { key: 'system', title: 'System', field: 'system' },
  { key: 'what', title: 'What', field: 'what', width: '34%', long: true },
  { key: 'next', title: 'What to do', width: '24%', long: true },
  { key: 'raised', title: 'Raised', field: 'raised' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/findings', { params: { query } }))
const key = (f: Finding) => f.id
</script>

<template>
  <h1>Findings</h1>
  <p class="soft">What needs a person. A finding clears itself when it is no longer true.</p>
  <ServerTable label="Findings" :columns="columns" :fetch="fetch" :row-key="key" empty="Nothing needs you.">
    <template #severity="{ row }"><StateTag :state="row.severity" /></template>
    <template #subject="{ row }"
      ><RouterLink v-if="row.dependent_id" :to="`/dependents/${row.dependent_id}`">{{ row.subject }}</RouterLink
      ><RouterLink v-else-if="row.account_id" :to="`/accounts/${row.account_id}`">{{ row.subject }}</RouterLink
      ><span v-else>{{ row.subject }}</span></template
    >
    <template #system="{ row }"
      ><RouterLink :to="`/systems/${encodeURIComponent(row.system)}`">{{ row.system }}</RouterLink></template
    >
    <template #next="{ row }"
      ><span class="soft">{{ row.next_step }}</span></template
    >
    <template #raised="{ row }"><When :at="row.raised" /></template>
  </ServerTable>
</template>
