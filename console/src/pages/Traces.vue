<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import { useDecided } from '../lists/decided'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const TraceForm = defineAsyncComponent(() => import('../components/TraceForm.vue'))
type Trace = Schemas['Trace']
const session = useSession()
const may = computed(() => session.may('operator') || session.may('administrator'))
const number = (key: 'operations' | 'refused' | 'failed'): Column => ({
  key,
  title: t(`traces.${key}`),
  field: key,
  content: 'number',
  compares: 'number',
  width: 104,
})
const columns: Column[] = [
  { key: 'id', title: t('traces.trace'), field: 'id', content: 'number', compares: 'number', width: 76 },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'account', title: t('traces.account'), field: 'account', content: 'name', width: 130 },
  { key: 'state', title: t('fields.state'), content: 'state', width: 110 },
  number('operations'),
  number('refused'),
  number('failed'),
  { key: 'ends', title: t('traces.ends'), field: 'ends', content: 'time', compares: 'time' },
  { key: 'reason', title: t('traces.reason'), field: 'reason', content: 'text' },
  { key: 'started', title: t('traces.started'), field: 'started', content: 'time', compares: 'time', optional: true },
  { key: 'started_by', title: t('charters.by'), field: 'started_by', content: 'name', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/traces', { params: { query } }))
const key = (v: Trace) => v.id
const { holds, said, open, begin, done } = useDecided<Trace>()
</script>

<template>
  <PageHead :title="t('places.traces')" :lead="t('traces.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('traces.start') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="traces"
    :label="t('places.traces')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('traces.empty')"
  >
    <template #id="{ row }"
      ><RouterLink :to="`/traces/${row.id}`">{{ row.id }}</RouterLink></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #state="{ row }"
      ><StateTag :state="row.ended ? t('traces.over') : t('traces.running')" :as="row.ended ? 'plain' : 'active'"
    /></template>
    <template #ends="{ row }"><When :at="row.ended || row.ends" /></template>
    <template #started="{ row }"><When :at="row.started" /></template>
  </ListPage>
  <TraceForm v-if="open" @done="done" @close="open = false" />
</template>
