<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import { never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

const MakeToken = defineAsyncComponent(() => import('../components/MakeToken.vue'))
type Token = Schemas['Token']
const route = useRoute()
const columns: Column[] = [
  { key: 'label', title: t('tokens.label'), field: 'label', content: 'name' },
  { key: 'user', title: t('tokens.user'), field: 'user', content: 'word' },
  { key: 'created', title: t('tokens.created'), field: 'created', content: 'time', compares: 'time' },
  { key: 'used', title: t('tokens.used'), content: 'time' },
  { key: 'expires', title: t('tokens.expires'), field: 'expires', content: 'time', compares: 'time' },
  { key: 'state', title: t('fields.state'), content: 'state' },
  { key: 'acts', title: t('fields.acts'), content: 'acts' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/tokens', { params: { query } }))
const key = (v: Token) => v.id
const table = ref<{ reload: () => void }>()
const { busy, trouble, work } = useWork()
const open = ref(route.query.do === 'add')
const revoke = (v: Token) =>
  work(String(v.id), async () => {
    await data(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: v.id } } }))
    table.value?.reload()
  })
const stateOf = (v: Token) =>
  !never(v.revoked) ? t('tokens.revoked') : Date.parse(v.expires) < Date.now() ? t('tokens.ended') : t('tokens.lives')
</script>

<template>
  <PageHead :title="t('places.tokens')" :lead="t('tokens.lead')"
    ><Button type="primary" @click="open = true">{{ t('tokens.make') }}</Button></PageHead
  >
  <Trouble :words="trouble" />
  <ListPage
    ref="table"
    name="tokens"
    :label="t('places.tokens')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('tokens.empty')"
  >
    <template #created="{ row }"><When :at="row.created" /></template>
    <template #used="{ row }"
      ><When v-if="!never(row.used)" :at="row.used" /><span v-else class="soft">{{ t('words.never') }}</span></template
    >
    <template #expires="{ row }"><When :at="row.expires" /></template>
    <template #state="{ row }"><StateTag :state="stateOf(row)" :as="stateOf(row) === t('tokens.lives') ? 'active' : 'plain'" /></template>
    <template #acts="{ row }">
      <Popconfirm
        v-if="stateOf(row) === t('tokens.lives')"
        :title="t('tokens.revokeAsk', { label: row.label })"
        :ok-text="t('tokens.revoke')"
        :cancel-text="t('do.notNow')"
        placement="left"
        @confirm="revoke(row)"
        ><Button size="small" :loading="busy === String(row.id)">{{ t('tokens.revoke') }}</Button></Popconfirm
      >
    </template>
  </ListPage>
  <MakeToken v-if="open" @made="table?.reload()" @close="open = false" />
</template>
