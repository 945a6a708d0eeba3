<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import { isPair, kindName, kindsOfCredential } from '../components/credentials'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

type Credential = Schemas['Credential']
const columns: Column[] = [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'system', values: kindsOfCredential },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'points', title: t('credentials.acceptedAt'), field: 'points', content: 'word', compares: 'number' },
  { key: 'locations', title: t('credentials.heldAt'), field: 'locations', content: 'system', compares: 'number' },
  { key: 'state', title: t('fields.custody'), field: 'state', content: 'state' },
  { key: 'rotated', title: t('credentials.rotated'), field: 'rotated', content: 'time', compares: 'time' },
  { key: 'ends', title: t('credentials.ends'), field: 'not_after', content: 'time', compares: 'time', optional: true },
  { key: 'first_seen', title: t('fields.firstSeen'), field: 'first_seen', content: 'time', compares: 'time', optional: true },
  { key: 'fingerprint', title: t('credentials.fingerprint'), field: 'fingerprint', content: 'text' },
  { key: 'type', title: t('fields.type'), field: 'type', filterOnly: true },
  { key: 'bits', title: t('credentials.bits'), field: 'bits', compares: 'number', filterOnly: true },
  { key: 'verdict', title: t('fields.verdict'), field: 'verdict', values: ['accepted', 'refused', 'unclear'], filterOnly: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/credentials', { params: { query } }))
const key = (c: Credential) => c.id
const isKey = (c: Credential) => isPair(c.kind)
</script>

<template>
  <PageHead :title="t('places.credentials')" :lead="t('credentials.lead')" />
  <ListPage
    name="credentials"
    :label="t('places.credentials')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :search-hint="t('credentials.searchHint')"
    :empty="t('credentials.empty')"
  >
    <template #name="{ row }"
      ><RouterLink :to="`/credentials/${row.id}`" :title="row.name">{{ row.name }}</RouterLink></template
    >
    <template #kind="{ row }"
      >{{ kindName(row.kind) }}{{ ' ' }}<span v-if="row.type" class="soft">{{ row.type }}</span></template
    >
    <template #points="{ row }"
      ><span :class="{ soft: !row.points }">{{
        isKey(row) ? t('credentials.accounts', row.points) : row.points ? t('credentials.itsAuthority') : t('credentials.nowhere')
      }}</span></template
    >
    <template #locations="{ row }"
      ><span :class="{ soft: !row.locations }">{{
        row.locations ? t('credentials.places', row.locations) : t('credentials.noPlace')
      }}</span></template
    >
    <template #state="{ row }"><StateTag v-if="row.state === 'custody'" :state="row.verdict || 'taken'" /></template>
    <template #rotated="{ row }"><When :at="row.rotated" /></template>
    <template #ends="{ row }"><When :at="row.not_after" /></template>
    <template #first_seen="{ row }"><When :at="row.first_seen" /></template>
    <template #fingerprint="{ row }"
      ><span class="mono" :title="row.fingerprint">{{ row.fingerprint }}</span></template
    >
  </ListPage>
</template>
