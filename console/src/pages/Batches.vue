<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'
import { batchTone } from '../components/batches'

const BatchForm = defineAsyncComponent(() => import('../components/BatchForm.vue'))
type Batch = Schemas['Batch']
const session = useSession()
const router = useRouter()
const columns: Column[] = [
  { key: 'id', title: t('batches.one'), field: 'id', content: 'word', compares: 'number' },
  {
    key: 'state',
    title: t('fields.state'),
    field: 'state',
    content: 'state',
    values: ['rehearsing', 'rehearsed', 'running', 'stopped', 'done'],
  },
  { key: 'chosen', title: t('batches.chosen'), field: 'chosen', content: 'text' },
  { key: 'total', title: t('places.credentials'), content: 'number' },
  { key: 'done', title: t('batches.done'), content: 'number', width: 90 },
  { key: 'bad', title: t('batches.bad'), content: 'number' },
  { key: 'by', title: t('fields.by'), field: 'requested_by', content: 'word' },
  { key: 'created', title: t('fields.started'), field: 'created', content: 'time', compares: 'time' },
  { key: 'reason', title: t('fields.reason'), field: 'reason', content: 'text', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/batches', { params: { query } }))
const key = (b: Batch) => b.id
const open = ref(false)
</script>

<template>
  <PageHead :title="t('places.batches')" :lead="t('batches.lead')"
    ><Button v-if="session.may('operator')" type="primary" @click="open = true">{{ t('batches.add') }}</Button></PageHead
  >
  <ListPage name="batches" :label="t('places.batches')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('batches.empty')">
    <template #id="{ row }"
      ><RouterLink :to="`/batches/${row.id}`">{{ t('batches.number', { n: row.id }) }}</RouterLink></template
    >
    <template #state="{ row }"><StateTag :state="t(`batches.state.${row.state}`)" :as="batchTone(row)" /></template>
    <template #bad="{ row }">{{ row.failed + row.blocked }}</template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #created="{ row }"><When :at="row.created" /></template>
  </ListPage>
  <BatchForm v-if="open" @close="open = false" @made="(id) => router.push(`/batches/${id}`)" />
</template>
