<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

type Socket = Schemas['SocketOf']
const columns: Column[] = [
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'local', title: t('connections.here'), field: 'local', content: 'name' },
  { key: 'peer', title: t('connections.there'), field: 'peer', content: 'name' },
  { key: 'peer_system', title: t('connections.peerSystem'), field: 'peer_system', content: 'system' },
  { key: 'unit', title: t('connections.unit'), field: 'unit', content: 'name' },
  { key: 'program', title: t('dependents.program'), field: 'program', content: 'text' },
  { key: 'seen', title: t('fields.seen'), field: 'seen', content: 'time', compares: 'time' },
  { key: 'uid', title: t('accounts.uid'), field: 'uid', content: 'word', optional: true },
  { key: 'listens', title: t('connections.listens'), field: 'listens', compares: 'yes', filterOnly: true },
  { key: 'local_port', title: t('connections.port'), field: 'local_port', compares: 'number', filterOnly: true },
  { key: 'peer_port', title: t('connections.peerPort'), field: 'peer_port', compares: 'number', filterOnly: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/sockets', { params: { query } }))
const key = (s: Socket) => `${s.system_id} ${s.local}:${s.local_port} ${s.peer}:${s.peer_port} ${s.unit} ${s.program} ${s.uid}`
</script>

<template>
  <PageHead :title="t('places.connections')" :lead="t('connections.lead')" />
  <ListPage
    name="connections"
    :label="t('places.connections')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('connections.empty')"
  >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #local="{ row }"
      ><span class="mono">{{ row.local }}:{{ row.local_port }}</span>
      <span v-if="row.listens" class="soft">{{ t('connections.listening') }}</span></template
    >
    <template #peer="{ row }"
      ><span v-if="!row.listens" class="mono">{{ row.peer }}:{{ row.peer_port }}</span></template
    >
    <template #peer_system="{ row }"
      ><RouterLink v-if="row.peer_system" :to="`/systems/${encodeURIComponent(row.peer_system)}`">{{
        row.peer_system
      }}</RouterLink></template
    >
    <template #program="{ row }"
      ><span :title="row.program">{{ row.program }}</span></template
    >
    <template #seen="{ row }"><When :at="row.seen" /></template>
  </ListPage>
</template>
