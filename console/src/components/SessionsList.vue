<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import When from './When.vue'
import { useWork } from './work'

/** Where one is signed in; everybody, for who may end all sessions. */
type Session = Schemas['Session']
const session = useSession()
const all = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'address', title: t('sessions.from'), field: 'address', content: 'name' },
  ...(all.value ? [{ key: 'user', title: t('tokens.user'), field: 'user', content: 'word' } as Column] : []),
  { key: 'created', title: t('sessions.since'), field: 'created', content: 'time', compares: 'time' },
  { key: 'expires', title: t('tokens.expires'), field: 'expires', content: 'time', compares: 'time' },
  { key: 'acts', title: t('fields.acts'), content: 'acts' },
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/sessions', { params: { query } }))
const key = (v: Session) => v.id
const table = ref<{ reload: () => void }>()
const { busy, trouble, work } = useWork()
const end = (v: Session) =>
  work(v.id, async () => {
    await data(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: v.id } } }))
    table.value?.reload()
  })
</script>

<template>
  <Trouble :words="trouble" />
  <ListPage
    ref="table"
    name="sessions"
    :label="t('sessions.title')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('sessions.empty')"
    :size="25"
  >
    <template #address="{ row }"
      >{{ row.address || t('sessions.unknown') }} <span v-if="row.current" class="soft">{{ t('sessions.this') }}</span></template
    >
    <template #created="{ row }"><When :at="row.created" /></template>
    <template #expires="{ row }"><When :at="row.expires" /></template>
    <template #acts="{ row }">
      <Popconfirm
        v-if="!row.current"
        :title="t('sessions.endAsk')"
        :ok-text="t('sessions.end')"
        :cancel-text="t('do.notNow')"
        placement="left"
        @confirm="end(row)"
        ><Button size="small" :loading="busy === row.id">{{ t('sessions.end') }}</Button></Popconfirm
      >
    </template>
  </ListPage>
</template>
