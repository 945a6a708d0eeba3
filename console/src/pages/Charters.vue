<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import When from '../components/When.vue'
import { useDecided } from '../lists/decided'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const CharterForm = defineAsyncComponent(() => import('../components/CharterForm.vue'))
type Charter = Schemas['Charter']
const session = useSession()
const number = (key: 'accounts' | 'forbidden' | 'missing' | 'differs' | 'unknown' | 'excess'): Column => ({
  key,
  title: t(`charters.${key}`),
  field: key,
  content: 'number',
  compares: 'number',
  width: 104,
})
const columns: Column[] = [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'label', title: t('charters.label'), field: 'label', content: 'system' },
  number('accounts'),
  number('forbidden'),
  number('missing'),
  number('differs'),
  number('unknown'),
  number('excess'),
  { key: 'version', title: t('charters.version'), field: 'version', content: 'number', compares: 'number', width: 88 },
  { key: 'changed', title: t('rules.changed'), field: 'changed', content: 'time', compares: 'time' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/charters', { params: { query } }))
const key = (c: Charter) => c.id
const may = computed(() => session.may('administrator'))
const { holds, said, open, begin, done } = useDecided<Charter>()
</script>

<template>
  <PageHead :title="t('places.charters')" :lead="t('charters.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('charters.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="charters"
    :label="t('places.charters')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('charters.empty')"
  >
    <template #name="{ row }"
      ><RouterLink :to="`/charters/${encodeURIComponent(row.name)}`">{{ row.name }}</RouterLink></template
    >
    <template #label="{ row }"
      ><RouterLink v-if="row.label" :to="{ path: '/accounts', query: { f: `labels~${row.label}` } }">{{ row.label }}</RouterLink
      ><span v-else class="soft">{{ t('charters.nobody') }}</span></template
    >
    <template #forbidden="{ row }"
      ><component :is="row.forbidden ? 'strong' : 'span'" :class="{ bad: row.forbidden }">{{ row.forbidden }}</component></template
    >
    <template #missing="{ row }"
      ><component :is="row.missing ? 'strong' : 'span'" :class="{ bad: row.missing }">{{ row.missing }}</component></template
    >
    <template #changed="{ row }"><When :at="row.changed" /></template>
  </ListPage>
  <CharterForm v-if="open" @done="done" @close="open = false" />
</template>
