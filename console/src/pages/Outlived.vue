<script setup lang="ts">
import { Button, Progress } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

/** What has outlived its purpose, and how each is ended safely. */
const EndForm = defineAsyncComponent(() => import('../components/EndForm.vue'))
type Outlived = Schemas['Outlived']
const session = useSession()
const columns: Column[] = [
  { key: 'points', title: t('outlived.points'), field: 'points', content: 'number', compares: 'number', width: 90 },
  { key: 'name', title: t('accounts.name'), field: 'name', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'what', title: t('ends.whatTitle'), field: 'what', content: 'word', compares: 'words', values: ['account', 'key'], width: 84 },
  { key: 'reasons', title: t('outlived.reasons'), field: 'reasons', content: 'text' },
  { key: 'dependents', title: t('ends.usedBy'), field: 'dependents', content: 'number', compares: 'number', width: 84 },
  { key: 'since', title: t('rights.since'), field: 'since', content: 'time', compares: 'time', optional: true },
  {
    key: 'remedy',
    title: t('outlived.remedy'),
    field: 'remedy',
    content: 'word',
    compares: 'words',
    values: ['delete', 'disable', 'rotate', 'look'],
    width: 200,
  },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/outlived', { params: { query } }))
const key = (v: Outlived) => v.id
const ending = ref<Outlived>()
const ends = (v: Outlived) => (v.remedy === 'delete' || v.remedy === 'disable') && (session.may('operator') || session.may('administrator'))
const page = (v: Outlived) => (v.account_id ? `/accounts/${v.account_id}?tab=ends` : `/dependents/${v.dependent_id}`)
</script>

<template>
  <PageHead :title="t('places.outlived')" :lead="t('outlived.lead')" />
  <ListPage name="outlived" :label="t('places.outlived')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('outlived.empty')">
    <template #points="{ row }"
      ><Progress :percent="row.points" size="small" :format="(n?: number) => `${n ?? 0}`" :aria-label="t('outlived.points')"
    /></template>
    <template #name="{ row }"
      ><RouterLink :to="page(row)">{{ row.name }}</RouterLink></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #what="{ row }">{{ t(`ends.what.${row.what}`) }}</template>
    <template #reasons="{ row }">{{ row.reasons.join('; ') }}</template>
    <template #since="{ row }"><When :at="row.since" /></template>
    <template #remedy="{ row }"
      ><Button v-if="ends(row)" size="small" :title="row.command" @click="ending = row">{{ t(`outlived.remedies.${row.remedy}`) }}</Button
      ><RouterLink v-else :to="page(row)" :title="row.command">{{ t(`outlived.remedies.${row.remedy}`) }}</RouterLink></template
    >
  </ListPage>
  <EndForm v-if="ending" :of="ending" :first="ending.remedy" @close="ending = undefined" />
</template>
