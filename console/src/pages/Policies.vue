<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import type { Column } from '../lists/listing'
import { useDecided } from '../lists/decided'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const PolicyForm = defineAsyncComponent(() => import('../components/PolicyForm.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Policy = Schemas['Policy']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name', width: 120 },
  { key: 'precedence', title: t('policies.precedence'), field: 'precedence', content: 'number', width: 104, compares: 'number' },
  { key: 'label', title: t('rules.label'), field: 'label', content: 'system', width: 100 },
  { key: 'often', title: t('policies.often'), content: 'text', width: 112 },
  { key: 'window', title: t('policies.window'), field: 'window', content: 'system', width: 92 },
  { key: 'credentials', title: t('places.credentials'), field: 'credentials', content: 'number', width: 112, compares: 'number' },
  { key: 'due', title: t('policies.due'), field: 'due', content: 'number', width: 64, compares: 'number' },
  { key: 'paused', title: t('fields.state'), field: 'paused', content: 'state', width: 100, compares: 'yes' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts' } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/policies', { params: { query } }))
const key = (p: Policy) => p.id
const often = (p: Policy) =>
  p.renew_days ? t('policies.daysBefore', p.renew_days) : p.every_days ? t('policies.everyDays', p.every_days) : `${p.rule} (${p.zone})`
const { holds, said, open, of, going, begin, done } = useDecided<Policy>()
const remove = (p: Policy) =>
  data(api.DELETE('/api/v1/policies/{name}', { params: { path: { name: p.name }, query: { revision: p.revision } } }))
</script>

<template>
  <PageHead :title="t('places.policies')" :lead="t('policies.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('policies.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="policies"
    :label="t('places.policies')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('policies.empty')"
  >
    <template #label="{ row }"
      ><RouterLink v-if="row.label" :to="{ path: '/accounts', query: { f: `labels~${row.label}` } }">{{ row.label }}</RouterLink
      ><span v-else class="soft">{{ row.renew_days ? t('policies.certificates') : t('policies.all') }}</span></template
    >
    <template #often="{ row }"
      ><span :title="often(row)">{{ often(row) }}</span></template
    >
    <template #window="{ row }"
      ><RouterLink v-if="row.window" to="/windows">{{ row.window }}</RouterLink
      ><span v-else class="soft">{{ t('policies.anyTime') }}</span></template
    >
    <template #credentials="{ row }"
      ><RouterLink :to="{ path: '/schedule', query: { f: `policy=${row.name}` } }">{{ row.credentials }}</RouterLink></template
    >
    <template #paused="{ row }"
      ><StateTag :state="row.paused ? t('policies.paused') : t('policies.inForce')" :as="row.paused ? 'stopped' : 'active'"
    /></template>
    <template #acts="{ row }">
      <div class="row">
        <Button size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button size="small" @click="going = row">{{ t('do.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <PolicyForm v-if="open" :of="of" @done="done" @close="open = false" />
  <RemoveNamed
    v-if="going"
    :title="t('policies.removeAsk', { name: going.name })"
    :words="t('policies.removeWhat', going.credentials)"
    :said="t('policies.removed', { name: going.name })"
    :remove="() => remove(going!)"
    @done="done"
    @close="going = undefined"
  />
</template>
