<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import { moment } from '../components/words'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { forecast, timeline, whats } from '../pictures/expiry'
import { palette } from '../state/appearance'
import { useSession } from '../state/session'
import { t } from '../texts'

/** What ends when: the parts of time, the days to come, and the list. */
const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
const EndForm = defineAsyncComponent(() => import('../components/EndForm.vue'))
type End = Schemas['EndRow']
const session = useSession()
const columns: Column[] = [
  { key: 'name', title: t('accounts.name'), field: 'name', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'what', title: t('ends.whatTitle'), field: 'what', content: 'word', compares: 'words', values: [...whats], width: 112 },
  { key: 'left', title: t('ends.left'), content: 'text', width: 150 },
  { key: 'at', title: t('ends.at'), field: 'at', content: 'time', compares: 'time', width: 170 },
  { key: 'dependents', title: t('ends.usedBy'), field: 'dependents', content: 'number', compares: 'number', width: 96 },
  { key: 'live', title: t('ends.live'), field: 'live', content: 'word', compares: 'yes', width: 88 },
  { key: 'why', title: t('ends.why'), field: 'why', content: 'text', optional: true },
  {
    key: 'state',
    title: t('fields.state'),
    field: 'state',
    content: 'word',
    compares: 'words',
    values: ['ends', 'ended', 'never', 'unknown'],
    filterOnly: true,
  },
  { key: 'act', title: t('ends.act'), content: 'word', width: 110 },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/expiry', { params: { query } }))
const key = (v: End) => v.id
const span = 90
const parts = ref<Schemas['EndsPart'][]>([])
const days = ref<Schemas['Forecast']>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    const [a, b] = await Promise.all([
      data(api.GET('/api/v1/expiry/timeline')),
      data(api.GET('/api/v1/expiry/forecast', { params: { query: { days: span } } })),
    ])
    parts.value = a ?? []
    days.value = b
  })
void load()
onChanged(() => void load())
const now = Date.now()
const drawn = computed(() => (parts.value.length ? timeline(parts.value, palette.value, now) : undefined))
const coming = computed(() => (days.value?.days.some((d) => d.live) ? forecast(days.value.days, palette.value, now, span) : undefined))
const titles: [string, string, string] = [t('ends.when'), t('ends.whatTitle'), t('ends.how')]
const changing = ref<End>()
const may = computed(() => session.may('operator') || session.may('administrator'))
/** Accounts, and entries that let the holder of a key in, have an end that can be changed. */
const changes = (v: End) => may.value && !given(v) && (v.account_id || v.what === 'key')
/** What is given for a while says to whom, and what. */
const given = (v: End) => v.what === 'membership' || v.what === 'right'
const about = (v: End) =>
  v.account_id
    ? `/accounts/${v.account_id}?tab=ends`
    : v.dependent_id
      ? `/dependents/${v.dependent_id}`
      : { path: '/rights', query: { f: [`system=${v.system}`, `to=${v.name}`] } }
</script>

<template>
  <PageHead :title="t('places.expiry')" :lead="t('ends.lead')" />
  <Trouble :words="trouble" retry @again="load" />
  <div class="two above">
    <Picture :question="t('ends.question')" :drawing="drawn" :empty="t('ends.empty')" :columns="titles" />
    <Picture :question="t('ends.days')" :drawing="coming" :empty="t('ends.noDays')" :columns="titles" />
  </div>
  <ListPage name="expiry" :label="t('places.expiry')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('ends.empty')">
    <template #name="{ row }"
      ><RouterLink :to="about(row)">{{ row.name }}</RouterLink>
      <div v-if="given(row)" class="soft" :title="row.place">{{ row.place }}</div></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #what="{ row }">{{ t(`ends.what.${row.what}`) }}</template>
    <template #left="{ row }"
      ><span :title="row.why">{{ row.left }}</span></template
    >
    <template #at="{ row }">{{ moment(row.at) }}</template>
    <template #live="{ row }">{{ row.live ? t('lists.yes') : t('lists.no') }}</template>
    <template #act="{ row }"
      ><Button v-if="changes(row)" size="small" :aria-label="t('ends.changeOf', { name: row.name })" @click="changing = row">{{
        t('ends.change')
      }}</Button></template
    >
  </ListPage>
  <EndForm v-if="changing" :of="changing" @close="changing = undefined" />
</template>

<style scoped>
.above {
  margin-bottom: 16px;
}
</style>
