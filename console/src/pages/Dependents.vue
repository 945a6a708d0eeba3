<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import Evidence from '../components/Evidence.vue'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type Dependent = Schemas['Dependent']
const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'system', title: 'System', field: 'system' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'place', title: 'Place', field: 'place', mono: true },
  { key: 'state', title: 'State', field: 'state' },
  { key: 'start', title: 'Start', field: 'start_mode' },
  { key: 'runs', title: 'Runs as', field: 'runs_as' },
  { key: 'accounts', title: 'Tied to', field: 'account' },
  { key: 'seen', title: 'Seen', field: 'seen' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/dependents', { params: { query } }))
const key = (d: Dependent) => d.id
</script>

<template>
  <h1>Dependents</h1>
  <p class="soft">Services, scheduled entries and files that run as an account or hold a copy of its credential.</p>
  <ServerTable label="Dependents" :columns="columns" :fetch="fetch" :row-key="key" search-hint="Search names, places, accounts" empty="No dependents yet. Survey some hosts.">
    <template #name="{ row }">{{ row.name }}<div class="soft">{{ row.description }}</div></template>
    <template #state="{ row }"><StateTag :state="row.state ?? ''" /></template>
    <template #start="{ row }">{{ row.start_mode }}</template>
    <template #runs="{ row }">{{ row.runs_as }}</template>
    <template #accounts="{ row }">
      <div v-for="t in row.ties" :key="t.account_id + t.evidence"><RouterLink :to="`/accounts/${t.account_id}`">{{ t.account }}</RouterLink> <Evidence :tie="t" /></div>
    </template>
    <template #seen="{ row }"><When :at="row.seen" /></template>
  </ServerTable>
</template>
