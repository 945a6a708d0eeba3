<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import { lasting, never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

type Rotation = Schemas['Rotation']
const columns: Column[] = [
  { key: 'credential', title: t('rotations.credential'), field: 'credential', content: 'name' },
  { key: 'id', title: t('fields.number'), field: 'id', content: 'number', compares: 'number' },
  { key: 'authority', title: t('rotations.authority'), field: 'authority', content: 'system' },
  { key: 'result', title: t('fields.result'), field: 'result', content: 'system' },
  { key: 'by', title: t('fields.by'), field: 'requested_by', content: 'word' },
  { key: 'started', title: t('fields.started'), field: 'started', content: 'time', compares: 'time' },
  { key: 'took', title: t('fields.took'), content: 'time' },
  { key: 'reason', title: t('fields.reason'), field: 'reason', content: 'text' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'word', optional: true },
  {
    key: 'on_failure',
    title: t('rotations.onFailure'),
    field: 'on_failure',
    content: 'word',
    values: ['undo', 'stop', 'continue'],
    optional: true,
  },
  { key: 'mode', title: t('rotations.mode'), field: 'mode', values: ['running', 'stopped', 'undoing', 'finished'], filterOnly: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/rotations', { params: { query } }))
const key = (r: Rotation) => r.id
const took = (r: Rotation) => (never(r.ended) ? '' : lasting(Date.parse(r.ended!) - Date.parse(r.started)))
</script>

<template>
  <PageHead :title="t('places.rotations')" :lead="t('rotations.lead')" />
  <ListPage name="rotations" :label="t('places.rotations')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('rotations.empty')">
    <template #credential="{ row }"
      ><RouterLink :to="`/rotations/${row.id}`" :title="row.credential">{{ row.credential }}</RouterLink></template
    >
    <template #result="{ row }"><StateTag :state="row.result || row.mode" :as="row.result || `mode-${row.mode}`" /></template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #started="{ row }"><When :at="row.started" /></template>
    <template #took="{ row }">{{ took(row) }}</template>
    <template #reason="{ row }"
      ><span class="soft" :title="row.reason">{{ row.reason }}</span></template
    >
  </ListPage>
</template>
