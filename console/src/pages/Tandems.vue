<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { RouterLink } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import { useDecided } from '../lists/decided'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const TandemForm = defineAsyncComponent(() => import('../components/TandemForm.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Tandem = Schemas['Tandem']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'working', title: t('tandems.working'), field: 'working', content: 'name', width: 150 },
  { key: 'resting', title: t('tandems.resting'), field: 'resting', content: 'name', width: 150 },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state', width: 150, values: ['ready', 'rests', 'turning'] },
  { key: 'turned', title: t('tandems.turned'), field: 'turned', content: 'time', width: 140, compares: 'time' },
  { key: 'reason', title: t('fields.reason'), field: 'reason', content: 'text' },
  { key: 'added', title: t('tandems.added'), field: 'added', content: 'time', compares: 'time', optional: true },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts', width: 96 } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/tandems', { params: { query } }))
const key = (v: Tandem) => v.id
const tones = { ready: 'unknown', rests: 'ok', turning: 'running' }
const { holds, said, open, going, begin, done } = useDecided<Tandem>()
const remove = (v: Tandem) => data(api.DELETE('/api/v1/tandems/{id}', { params: { path: { id: v.id } } }))
const names = (v: Tandem) => ({ one: v.working.account, other: v.resting.account })
</script>

<template>
  <PageHead :title="t('places.tandems')" :lead="t('tandems.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('tandems.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="tandems"
    :label="t('places.tandems')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('tandems.empty')"
  >
    <template #working="{ row }"
      ><RouterLink :to="`/accounts/${row.working.account_id}`">{{ row.working.account }}</RouterLink></template
    >
    <template #resting="{ row }"
      ><RouterLink :to="`/accounts/${row.resting.account_id}`">{{ row.resting.account }}</RouterLink></template
    >
    <template #state="{ row }"
      ><span :title="t(`tandems.means.${row.state}`)"><StateTag :state="t(`tandems.state.${row.state}`)" :as="tones[row.state]" /></span
    ></template>
    <template #turned="{ row }"><When :at="row.turned" /></template>
    <template #added="{ row }"><When :at="row.added" /></template>
    <template #acts="{ row }"
      ><Button size="small" @click="going = row">{{ t('tandems.part') }}</Button></template
    >
  </ListPage>
  <TandemForm v-if="open" @done="done" @close="open = false" />
  <RemoveNamed
    v-if="going"
    :title="t('tandems.removeAsk', names(going))"
    :words="t('tandems.removeMeans', names(going))"
    :said="t('tandems.removed', names(going))"
    :remove="() => remove(going!)"
    @done="done"
    @close="going = undefined"
  />
</template>
