<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import { useDecided } from '../lists/decided'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const OrderForm = defineAsyncComponent(() => import('../components/OrderForm.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Order = Schemas['Order']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'state', values: ['group', 'sequence'] },
  { key: 'at_once', title: t('orders.atOnce'), field: 'at_once', content: 'number', compares: 'number' },
  { key: 'members', title: t('orders.members'), field: 'members', content: 'text' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text' },
  { key: 'changed', title: t('rules.changed'), field: 'changed', content: 'time', compares: 'time' },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts' } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/orders', { params: { query } }))
const key = (o: Order) => o.id
const words = (m: Schemas['OrderMember']) =>
  [m.system || m.place ? `${m.system || '*'}/${m.place || '*'}` : '', m.label ? t('windows.ofLabel', { name: m.label }) : '']
    .filter(Boolean)
    .join(', ')
const members = (o: Order) => o.members.map(words).join(o.kind === 'sequence' ? ' → ' : ', ')
const { holds, said, open, of, going, begin, done } = useDecided<Order>()
const remove = (o: Order) =>
  data(api.DELETE('/api/v1/orders/{name}', { params: { path: { name: o.name }, query: { revision: o.revision } } }))
</script>

<template>
  <PageHead :title="t('places.orders')" :lead="t('orders.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('orders.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="orders"
    :label="t('places.orders')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('orders.empty')"
  >
    <template #kind="{ row }"><StateTag :state="t(`orders.kind.${row.kind}`)" as="plain" /></template>
    <template #at_once="{ row }">{{ row.kind === 'group' ? row.at_once : '' }}</template>
    <template #members="{ row }"
      ><span class="mono" :title="members(row)">{{ members(row) }}</span></template
    >
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #acts="{ row }">
      <div class="row">
        <Button size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button size="small" @click="going = row">{{ t('do.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <OrderForm v-if="open" :of="of" @done="done" @close="open = false" />
  <RemoveNamed
    v-if="going"
    :title="t('orders.removeAsk', { name: going.name })"
    :said="t('orders.removed', { name: going.name })"
    :remove="() => remove(going!)"
    @done="done"
    @close="going = undefined"
  />
</template>
