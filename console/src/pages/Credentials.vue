<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import { kindNames } from '../components/credentials'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type Credential = Schemas['Credential']
const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'system', title: 'System', field: 'system' },
  { key: 'type', title: 'Type', field: 'type', filterOnly: true },
  { key: 'bits', title: 'Bits', field: 'bits', filterOnly: true },
  { key: 'points', title: 'Accepted at', field: 'points' },
  { key: 'locations', title: 'Held at', field: 'locations' },
  { key: 'state', title: 'Custody', field: 'state' },
  { key: 'verdict', title: 'Verdict', field: 'verdict', filterOnly: true },
  { key: 'rotated', title: 'Rotated', field: 'rotated' },
  { key: 'first_seen', title: 'First seen', field: 'first_seen' },
  { key: 'fingerprint', title: 'Fingerprint', field: 'fingerprint', mono: true, long: true, width: '24%' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/credentials', { params: { query } }))
const key = (c: Credential) => c.id
const several = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`)
const isKey = (c: Credential) => c.kind === 'ssh-key'
</script>

<template>
  <h1>Credentials</h1>
  <p class="soft">
    What proves accounts: passwords that something uses or that are in custody, and SSH keys that were seen. Where each is accepted, and
    where it is held.
  </p>
  <ServerTable
    label="Credentials"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    search-hint="Search names, fingerprints"
    empty="No credential is known yet. Survey some systems."
  >
    <template #name="{ row }"
      ><RouterLink :to="`/credentials/${row.id}`">{{ row.name }}</RouterLink></template
    >
    <template #kind="{ row }"
      >{{ kindNames[row.kind] ?? row.kind }}
      <div v-if="row.type" class="soft">
        {{ row.type }}<template v-if="row.bits">, {{ row.bits }} bits</template>
      </div></template
    >
    <template #system="{ row }">{{ row.system }}</template>
    <template #points="{ row }"
      ><span :class="{ soft: !row.points }">{{
        isKey(row) ? several(row.points, 'account', 'accounts') : row.points ? 'its authority' : 'nowhere'
      }}</span></template
    >
    <template #locations="{ row }"
      ><span :class="{ soft: !row.locations }">{{
        row.locations ? several(row.locations, 'place', 'places') : isKey(row) ? 'no file that was read' : 'no place that was read'
      }}</span></template
    >
    <template #state="{ row }"><StateTag v-if="row.state === 'custody'" :state="row.verdict || 'taken'" /></template>
    <template #rotated="{ row }"><When :at="row.rotated" /></template>
    <template #first_seen="{ row }"><When :at="row.first_seen" /></template>
  </ServerTable>
</template>
