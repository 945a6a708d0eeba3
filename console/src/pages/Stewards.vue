<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const StewardForm = defineAsyncComponent(() => import('../components/StewardForm.vue'))
const Drawer = defineAsyncComponent(() => import('ant-design-vue/es/drawer'))
type Steward = Schemas['Steward']
const session = useSession()
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'account', title: t('stewards.account'), field: 'account', content: 'name' },
  { key: 'by', title: t('stewards.by'), content: 'system' },
  { key: 'systems', title: t('places.systems'), field: 'systems', content: 'number', compares: 'number' },
  { key: 'changed', title: t('stewards.changed'), field: 'changed', content: 'time', compares: 'time' },
  { key: 'acts', title: t('fields.acts'), content: 'acts' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/stewards', { params: { query } }))
const key = (s: Steward) => s.name
const table = ref<{ reload: () => void }>()
const { busy, trouble, work } = useWork()
const said = ref('')
const mayChange = computed(() => session.may('administrator'))
const open = ref(route.query.do === 'add')
const of = ref<Steward>()
function begin(s?: Steward): void {
  of.value = s
  open.value = true
}
function close(name?: string): void {
  if (name) said.value = t('stewards.kept', { name })
  open.value = false
  table.value?.reload()
  if (route.query.do) void router.replace({ query: { ...route.query, do: undefined } })
}
const remove = (s: Steward) =>
  work(s.name, async () => {
    await data(api.DELETE('/api/v1/stewards/{name}', { params: { path: { name: s.name } } }))
    said.value = t('stewards.removed', { name: s.name })
    table.value?.reload()
  })
</script>

<template>
  <PageHead :title="t('places.stewards')" :lead="t('stewards.lead')"
    ><Button v-if="mayChange" type="primary" @click="begin()">{{ t('stewards.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble v-if="!open" :words="trouble" />
  <ListPage
    ref="table"
    name="stewards"
    :label="t('places.stewards')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('stewards.empty')"
  >
    <template #by="{ row }">{{
      [row.has_key ? t('stewards.privateKey') : '', row.has_password ? t('stewards.password') : ''].filter(Boolean).join(', ')
    }}</template>
    <template #systems="{ row }">{{ row.systems }}</template>
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #acts="{ row }">
      <div v-if="mayChange" class="row">
        <Button size="small" :aria-label="t('stewards.replace', { name: row.name })" @click="begin(row)">{{ t('do.change') }}</Button>
        <Popconfirm
          :title="t('stewards.removeAsk', { name: row.name })"
          :ok-text="t('do.remove')"
          :cancel-text="t('do.notNow')"
          placement="left"
          @confirm="remove(row)"
          ><Button
            size="small"
            :disabled="row.systems > 0"
            :title="row.systems ? t('stewards.used', row.systems) : undefined"
            :loading="busy === row.name"
            >{{ t('do.remove') }}</Button
          ></Popconfirm
        >
      </div>
    </template>
  </ListPage>
  <Drawer
    v-if="open"
    :open="open"
    :width="520"
    :title="of ? t('stewards.replace', { name: of.name }) : t('stewards.add')"
    destroy-on-close
    @close="close()"
    ><StewardForm v-if="open" :of="of" @done="close"
  /></Drawer>
</template>
