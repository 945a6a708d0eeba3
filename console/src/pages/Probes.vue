<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import ProbeSteps from '../components/ProbeSteps.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const ProbeForm = defineAsyncComponent(() => import('../components/ProbeForm.vue'))
type Probe = Schemas['Probe']
const session = useSession()
const may = computed(() => session.may('operator') || session.may('administrator'))
const asking = ref(false)
const table = ref<{ reload: () => void }>()
const outcomes = ['open', 'refused', 'filtered', 'no-address', 'no-route', 'hangs', 'wrong-answer', 'certificate', 'proxy', 'not-probed']
const columns: Column[] = [
  { key: 'target', title: t('probes.target'), field: 'target', content: 'place', width: 260 },
  { key: 'from', title: t('probes.from'), field: 'from', content: 'system' },
  { key: 'outcome', title: t('probes.outcome'), field: 'outcome', content: 'state', compares: 'words', values: outcomes, width: 130 },
  { key: 'was', title: t('charters.was'), field: 'was', content: 'word', width: 110 },
  { key: 'words', title: t('probes.words'), field: 'words', content: 'text' },
  { key: 'at', title: t('probes.at'), field: 'at', content: 'time', compares: 'time' },
  { key: 'asked_by', title: t('probes.by'), field: 'asked_by', content: 'name', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/probes', { params: { query } }))
const key = (p: Probe) => p.id
</script>

<template>
  <PageHead :title="t('places.probes')" :lead="t('probes.lead')">
    <Button v-if="may" :type="asking ? 'default' : 'primary'" :aria-expanded="asking" @click="asking = !asking">{{
      t('probes.ask')
    }}</Button>
  </PageHead>
  <ProbeForm v-if="asking" @done="table?.reload()" />
  <ListPage
    ref="table"
    name="probes"
    :label="t('places.probes')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('probes.empty')"
  >
    <template #target="{ row }"
      ><span class="mono">{{ row.target }}</span></template
    >
    <template #from="{ row }"
      ><SystemLink v-if="row.from" :name="row.from" /><span v-else class="soft">{{ t('probes.service') }}</span></template
    >
    <template #outcome="{ row }"><StateTag :state="row.outcome" /></template>
    <template #at="{ row }"><When :at="row.at" /></template>
    <template #expanded="{ row }"><ProbeSteps :probe="row" /></template>
  </ListPage>
</template>
