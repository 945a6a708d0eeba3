<script setup lang="ts">
import { Switch } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import { never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

type Finding = Schemas['Finding']
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'subject', title: t('findings.subject'), field: 'subject', content: 'name' },
  { key: 'severity', title: t('findings.severity'), field: 'severity', content: 'state', values: ['high', 'medium', 'low'] },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'system' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'what', title: t('findings.what'), field: 'what', content: 'text' },
  { key: 'raised', title: t('findings.raised'), field: 'raised', content: 'time', compares: 'time' },
  { key: 'next', title: t('findings.next'), content: 'text', optional: true },
  { key: 'account', title: t('findings.account'), field: 'account_id', compares: 'number', filterOnly: true },
]
const ended = computed(() => route.query.ended === 'yes')
const fetch = (query: ListQuery) => data(api.GET('/api/v1/findings', { params: { query: { ...query, all: ended.value } } }))
const key = (f: Finding) => f.id
const show = (on: boolean) => void router.replace({ query: { ...route.query, ended: on ? 'yes' : undefined } })
const path = (f: Finding) =>
  f.dependent_id
    ? `/dependents/${f.dependent_id}`
    : f.account_id
      ? `/accounts/${f.account_id}`
      : f.credential_id
        ? `/credentials/${f.credential_id}`
        : ''
</script>

<template>
  <PageHead :title="t('places.findings')" :lead="t('findings.lead')" />
  <ListPage
    :key="String(ended)"
    name="findings"
    :label="t('places.findings')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('findings.empty')"
  >
    <template #switches
      ><label class="row"
        ><Switch size="small" :checked="ended" @change="(on) => show(!!on)" /> {{ t('findings.showEnded') }}</label
      ></template
    >
    <template #severity="{ row }"><StateTag :state="row.severity" /></template>
    <template #subject="{ row }"
      ><RouterLink v-if="path(row)" :to="path(row)" :title="row.subject">{{ row.subject }}</RouterLink
      ><span v-else :title="row.subject">{{ row.subject }}</span></template
    >
    <template #system="{ row }"><SystemLink v-if="row.system" :name="row.system" /></template>
    <template #what="{ row }"
      ><span :title="row.what">{{ row.what }}</span></template
    >
    <template #next="{ row }"
      ><span class="soft" :title="row.next_step">{{ row.next_step }}</span></template
    >
    <template #raised="{ row }"><When :at="row.raised" /> <StateTag v-if="!never(row.cleared)" state="ended" /></template>
    <template #beside="{ row }">
      <h2 class="break">
        <RouterLink v-if="path(row)" :to="path(row)">{{ row.subject }}</RouterLink><template v-else>{{ row.subject }}</template>
      </h2>
      <p>
        <StateTag :state="row.severity" /> <span class="soft">{{ row.kind }}</span>
      </p>
      <p class="break">{{ row.what }}</p>
      <h2>{{ t('findings.next') }}</h2>
      <p class="break">{{ row.next_step }}</p>
      <p class="soft"><SystemLink v-if="row.system" :name="row.system" />, {{ t('findings.since') }} <When :at="row.first_raised" /></p>
    </template>
  </ListPage>
</template>
