<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'

type Account = Schemas['Account']
const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'system', title: 'System', field: 'system' },
  { key: 'type', title: 'Type', field: 'type' },
  { key: 'enabled', title: 'Enabled', field: 'enabled' },
  { key: 'locked', title: 'Locked', field: 'locked' },
  { key: 'changed', title: 'Password changed', field: 'password_changed' },
  { key: 'expires', title: 'Expires', field: 'password_expires' },
  { key: 'never', title: 'Never expires', field: 'never_expires', filterOnly: true },
  { key: 'custody', title: 'Custody', field: 'custody' },
  { key: 'dependents', title: 'Dependents', field: 'dependents' },
  { key: 'seen', title: 'Seen', field: 'seen' },
  { key: 'description', title: 'Description', field: 'description', width: '20%' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/accounts', { params: { query } }))
const key = (a: Account) => a.id
</script>

<template>
  <h1>Accounts</h1>
  <p class="soft">Identities that programs use, on every system. Filters are part of the address: share or bookmark it.</p>
  <ServerTable
    label="Accounts"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    search-hint="Search names, DNs, descriptions"
    empty="No accounts yet. Survey some systems."
  >
    <template #name="{ row }"
      ><RouterLink :to="`/accounts/${row.id}`">{{ row.name }}</RouterLink
      ><StateTag v-if="row.gone && !row.gone.startsWith('0001')" state="gone" as="failed"
    /></template>
    <template #enabled="{ row }"
      ><StateTag v-if="row.enabled !== 'yes'" :state="row.enabled" as="unchecked" /><span v-else>yes</span></template
    >
    <template #locked="{ row }"
      ><StateTag v-if="row.locked === 'yes'" state="locked" as="failed" /><span v-else>{{ row.locked }}</span></template
    >
    <template #changed="{ row }"><When :at="row.password_changed" /></template>
    <template #expires="{ row }"
      ><span v-if="row.never_expires" class="soft">never</span><When v-else :at="row.password_expires"
    /></template>
    <template #custody="{ row }"><StateTag v-if="row.custody" :state="row.verdict || 'taken'" /></template>
    <template #seen="{ row }"><When :at="row.seen" /></template>
    <template #description="{ row }"
      ><span class="soft">{{ row.description }}</span></template
    >
  </ServerTable>
</template>
