<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type Rotation = Schemas['Rotation']
const columns: Column[] = [
  { key: 'id', title: 'Number', field: 'id' },
  { key: 'credential', title: 'Credential', field: 'credential' },
  { key: 'authority', title: 'Authority', field: 'authority' },
  { key: 'result', title: 'Result', field: 'result' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'policy', title: 'On failure', field: 'policy' },
  { key: 'by', title: 'By', field: 'requested_by' },
  { key: 'started', title: 'Started', field: 'started' },
  { key: 'reason', title: 'Reason', field: 'reason', width: '30%', long: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/rotations', { params: { query } }))
const key = (r: Rotation) => r.id
</script>

<template>
  <h1>Rotations</h1>
  <p class="soft">One credential changed at its authority and everywhere it is held, proven or undone.</p>
  <ServerTable
    label="Rotations"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    empty="No rotation yet. Open an account in custody, rehearse, then rotate."
  >
    <template #id="{ row }"
      ><RouterLink :to="`/rotations/${row.id}`">{{ row.id }}</RouterLink></template
    >
    <template #credential="{ row }"
      ><RouterLink :to="row.account_id ? `/accounts/${row.account_id}` : `/credentials/${row.credential_id}`">{{
        row.credential
      }}</RouterLink></template
    >
    <template #result="{ row }"><StateTag :state="row.result || row.mode" /></template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #started="{ row }"><When :at="row.started" /></template>
  </ServerTable>
</template>
