<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import CommonOptions from '../components/CommonOptions.vue'
import AddSystem from '../components/AddSystem.vue'
import ImportSystems from '../components/ImportSystems.vue'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import { useSession } from '../state/session'

type System = Schemas['System']
const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'address', title: 'Address', field: 'address', mono: true },
  { key: 'site', title: 'Site', field: 'site' },
  { key: 'environment', title: 'Environment', field: 'environment' },
  { key: 'owner', title: 'Owner', field: 'owner' },
  { key: 'state', title: 'State', field: 'state' },
  { key: 'read', title: 'Read completely', field: 'read_completely' },
  { key: 'words', title: 'What is wrong', field: 'state_words', width: '28%', long: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/systems', { params: { query } }))
const key = (s: System) => s.id

const session = useSession()
const adding = ref<'' | 'one' | 'many' | 'options'>('')
const table = ref<{ reload: () => void }>()
</script>

<template>
  <h1>Systems</h1>
  <p class="soft">Everything Moss Ledger can reach. A system that was not read completely leaves the picture incomplete.</p>
  <AddSystem v-if="adding === 'one'" @done="table?.reload()" />
  <ImportSystems v-if="adding === 'many'" @done="table?.reload()" />
  <CommonOptions v-if="adding === 'options'" />
  <ServerTable
    ref="table"
    label="Systems"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    empty="There are no systems. Add one here or with 'moss system add', or many with 'moss system import'."
  >
    <template v-if="session.may('operator') || session.may('administrator')" #actions>
      <Button size="small" @click="adding = adding === 'one' ? '' : 'one'">{{ adding === 'one' ? 'Close' : 'Add a system' }}</Button>
      <Button size="small" @click="adding = adding === 'many' ? '' : 'many'">{{ adding === 'many' ? 'Close' : 'Add many' }}</Button>
      <Button size="small" @click="adding = adding === 'options' ? '' : 'options'">{{
        adding === 'options' ? 'Close' : 'Common options'
      }}</Button>
    </template>
    <template #name="{ row }"
      ><RouterLink :to="`/systems/${encodeURIComponent(row.name)}`">{{ row.name }}</RouterLink></template
    >
    <template #address="{ row }">{{ row.address }}{{ row.port ? ':' + row.port : '' }}</template>
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #read="{ row }"><When v-if="row.read_completely" :at="row.read_completely" /><span v-else class="soft">never</span></template>
    <template #words="{ row }"
      ><span class="soft">{{ row.state_words }}</span></template
    >
  </ServerTable>
</template>
