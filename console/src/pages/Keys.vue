<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type KeyPair = Schemas['KeyPair']
const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'type', title: 'Type', field: 'type' },
  { key: 'bits', title: 'Bits', field: 'bits', filterOnly: true },
  { key: 'doors', title: 'Opens', field: 'doors' },
  { key: 'holders', title: 'Held in', field: 'holders' },
  { key: 'custody', title: 'Custody', field: 'custody' },
  { key: 'rotated', title: 'Rotated', field: 'rotated' },
  { key: 'first_seen', title: 'First seen', field: 'first_seen' },
  { key: 'fingerprint', title: 'Fingerprint', field: 'fingerprint', mono: true, long: true, width: '30%' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/keys', { params: { query } }))
const key = (k: KeyPair) => k.id
const several = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`)
</script>

<template>
  <h1>Keys</h1>
  <p class="soft">SSH key pairs that were seen on hosts: how many accounts each opens, and how many files hold its private half.</p>
  <ServerTable label="Keys" :columns="columns" :fetch="fetch" :row-key="key" search-hint="Search names, fingerprints" empty="No key was seen yet. Survey some unix hosts.">
    <template #name="{ row }"><RouterLink :to="`/keys/${row.id}`">{{ row.name }}</RouterLink></template>
    <template #type="{ row }">{{ row.type }}<template v-if="row.bits">, {{ row.bits }} bits</template></template>
    <template #doors="{ row }">{{ several(row.doors, 'account', 'accounts') }}</template>
    <template #holders="{ row }"><span :class="{ soft: !row.holders }">{{ row.holders ? several(row.holders, 'file', 'files') : 'no file that was read' }}</span></template>
    <template #custody="{ row }"><StateTag v-if="row.custody" :state="row.verdict || 'taken'" /></template>
    <template #rotated="{ row }"><When :at="row.rotated" /></template>
    <template #first_seen="{ row }"><When :at="row.first_seen" /></template>
  </ServerTable>
</template>
