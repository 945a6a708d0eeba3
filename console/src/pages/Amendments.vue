<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

/** Changes of rights: what was rehearsed, what waits, what was done. */
type Amendment = Schemas['Amendment']
const columns: Column[] = [
  { key: 'id', title: t('fields.number'), field: 'id', content: 'number', compares: 'number', width: 84 },
  { key: 'charter', title: t('amendments.charter'), field: 'charter', content: 'name' },
  { key: 'subject', title: t('amendments.accounts'), field: 'subject', content: 'text', width: 280 },
  { key: 'changes', title: t('amendments.changes'), content: 'number', width: 96 },
  {
    key: 'mode',
    title: t('amendments.mode'),
    field: 'mode',
    content: 'state',
    compares: 'words',
    values: ['rehearsed', 'running', 'undoing', 'stopped', 'finished'],
    width: 150,
  },
  {
    key: 'verdict',
    title: t('amendments.rehearsal'),
    field: 'verdict',
    content: 'state',
    compares: 'words',
    values: ['passed', 'failed'],
    width: 110,
    optional: true,
  },
  { key: 'requested_by', title: t('amendments.by'), field: 'requested_by', content: 'name' },
  { key: 'reason', title: t('amendments.reason'), field: 'reason', content: 'text' },
  { key: 'started', title: t('amendments.started'), field: 'started', content: 'time', compares: 'time', optional: true },
  { key: 'ended', title: t('amendments.ended'), field: 'ended', content: 'time', compares: 'time', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/amendments', { params: { query } }))
const key = (v: Amendment) => v.id
</script>

<template>
  <PageHead :title="t('places.amendments')" :lead="t('amendments.lead')" />
  <ListPage
    name="amendments"
    :label="t('places.amendments')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('amendments.empty')"
  >
    <template #id="{ row }"
      ><RouterLink :to="`/amendments/${row.id}`">{{ row.id }}</RouterLink></template
    >
    <template #charter="{ row }"
      ><RouterLink v-if="row.charter" :to="`/charters/${row.charter}`">{{ row.charter }}</RouterLink
      ><template v-else>{{ t(row.plan?.kind === 'manage' ? 'amendments.aManaged' : 'amendments.anEnd') }}</template></template
    >
    <template #mode="{ row }"><StateTag :state="row.result || row.mode" /></template>
    <template #verdict="{ row }"><StateTag :state="row.verdict" /></template>
    <template #started="{ row }"><When v-if="row.started" :at="row.started" /></template>
    <template #ended="{ row }"><When v-if="row.ended" :at="row.ended" /></template>
  </ListPage>
</template>
