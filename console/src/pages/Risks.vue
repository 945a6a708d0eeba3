<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import RiskParts from '../components/RiskParts.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { risks } from '../pictures/risk'
import { palette } from '../state/appearance'
import { t } from '../texts'

const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
type Risk = Schemas['Risk']
const columns: Column[] = [
  { key: 'account', title: t('accounts.name'), field: 'account', content: 'name', width: 150 },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'score', title: t('risks.score'), field: 'score', content: 'number', compares: 'number', width: 88 },
  { key: 'power', title: t('risks.power'), field: 'power', content: 'number', compares: 'number', width: 88 },
  { key: 'weakness', title: t('risks.weakness'), field: 'weakness', content: 'number', compares: 'number', width: 104 },
  { key: 'words', title: t('risks.why'), content: 'text' },
  { key: 'custody', title: t('fields.custody'), field: 'custody', content: 'word', compares: 'yes', width: 96 },
  { key: 'since', title: t('rights.since'), field: 'since', content: 'time', compares: 'time', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/risks', { params: { query } }))
const key = (r: Risk) => r.account_id
/** The picture has the worst: those further down are dots in a corner. */
const most = 200
const worst = ref<Risk[]>([])
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    worst.value = (await fetch({ limit: most })).items
  })
void load()
onChanged(() => void load())
const drawing = computed(() => (worst.value.length ? risks(worst.value, palette.value) : undefined))
const titles: [string, string, string] = [t('accounts.name'), t('risks.parts'), t('risks.score')]
</script>

<template>
  <PageHead :title="t('places.risks')" :lead="t('risks.lead')" />
  <Trouble :words="trouble" retry @again="load" />
  <Picture class="above" :question="t('risks.question')" :drawing="drawing" :empty="t('risks.empty')" :columns="titles" />
  <ListPage name="risks" :label="t('places.risks')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('risks.empty')">
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account_id}?tab=rights`">{{ row.account }}</RouterLink></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #custody="{ row }">{{ row.custody ? t('lists.yes') : t('lists.no') }}</template>
    <template #since="{ row }"><When :at="row.since" /></template>
    <template #expanded="{ row }"><RiskParts :risk="row" /></template>
  </ListPage>
</template>

<style scoped>
.above {
  margin-bottom: 16px;
}
</style>
