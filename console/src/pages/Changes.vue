<script setup lang="ts">
import { Segmented, Switch } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import ChangeFields from '../components/ChangeFields.vue'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import { several, type Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

const ChangeWitnesses = defineAsyncComponent(() => import('../components/ChangeWitnesses.vue'))
const BetweenPicker = defineAsyncComponent(() => import('../components/BetweenPicker.vue'))
type Change = Schemas['SeenChange']
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'name', title: t('changes.name'), field: 'name', content: 'name', width: 220 },
  { key: 'what', title: t('changes.what'), field: 'what', content: 'state', values: ['new', 'changed', 'gone', 'back'] },
  { key: 'subject', title: t('changes.subject'), field: 'subject', content: 'word', values: ['account', 'dependent', 'system'] },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'words', title: t('changes.fields'), field: 'fields', content: 'text' },
  {
    key: 'made_by',
    title: t('changes.madeBy'),
    field: 'made_by',
    content: 'word',
    width: 112,
    values: ['moss-ledger', 'others', 'people'],
  },
  { key: 'at', title: t('changes.seen'), field: 'at', content: 'time', compares: 'time' },
  { key: 'by_whom', title: t('changes.byWhom'), field: 'by_whom', content: 'text', optional: true },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'word', optional: true },
  { key: 'custody', title: t('fields.custody'), field: 'custody', compares: 'yes', filterOnly: true },
  { key: 'survey', title: t('changes.survey'), field: 'survey_id', compares: 'number', filterOnly: true },
  { key: 'rotation', title: t('changes.rotation'), field: 'rotation_id', compares: 'number', filterOnly: true },
  { key: 'account', title: t('findings.account'), field: 'account_id', compares: 'number', filterOnly: true },
  { key: 'dependent', title: t('changes.dependent'), field: 'dependent_id', compares: 'number', filterOnly: true },
]

const since = computed(() => several(route.query.since)[0])
const until = computed(() => several(route.query.until)[0])
const net = computed(() => route.query.net === 'yes')
const days: Record<string, number> = { day: 1, week: 7, month: 30 }
/** Two moments are being chosen: only then is a calendar loaded. */
const choosing = ref(false)
const usual = computed(() =>
  choosing.value ? 'own' : since.value && days[since.value] ? since.value : since.value || until.value ? 'own' : 'all',
)
const moment = () => {
  const back = days[since.value ?? '']
  return back ? new Date(Date.now() - back * 86_400_000).toISOString() : since.value
}
const fetch = (query: ListQuery) =>
  data(
    api.GET('/api/v1/changes', {
      params: { query: { ...query, since: moment(), until: until.value, net: net.value || undefined } },
    }),
  )
const key = (c: Change) => c.id
const go = (query: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...query } })
function choose(name: unknown): void {
  choosing.value = name === 'own'
  if (name !== 'own') go({ since: name === 'all' ? undefined : String(name), until: undefined })
}
const times = ['day', 'week', 'month', 'all', 'own'].map((value) => ({ value, label: t(`changes.time.${value}`) }))
const own = (from: string | undefined, to: string | undefined) => go({ since: from, until: to })

const path = (c: Change) =>
  c.account_id
    ? `/accounts/${c.account_id}`
    : c.dependent_id
      ? `/dependents/${c.dependent_id}`
      : c.system_id
        ? `/systems/${encodeURIComponent(c.system)}`
        : ''
const unmanaged = (c: Change) => c.subject === 'account' && c.what === 'new' && !c.custody
/** Who did it, where that is told; else of which kind they are. */
const did = (c: Change) => c.witnesses?.list.find((w) => w.it && w.who)?.who
const by = (c: Change) => did(c) ?? t(`changes.by.${c.made_by}`)
</script>

<template>
  <PageHead :title="t('places.changes')" :lead="t('changes.lead')" />
  <div class="row when" role="group" :aria-label="t('changes.between')">
    <Segmented :value="usual" :options="times" @change="choose" />
    <BetweenPicker v-if="usual === 'own'" :since="days[since ?? ''] ? undefined : since" :until="until" @choose="own" />
    <label class="row"
      ><Switch size="small" :checked="net" @change="(on) => go({ net: on ? 'yes' : undefined })" /> {{ t('changes.net') }}</label
    >
  </div>
  <ListPage
    :key="`${since} ${until} ${net}`"
    name="changes"
    :label="t('places.changes')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="since || until ? t('changes.emptyThen') : t('changes.empty')"
  >
    <template #name="{ row }"
      ><RouterLink v-if="path(row)" :to="path(row)" :title="row.name">{{ row.name }}</RouterLink
      ><span v-else :title="row.name">{{ row.name }}</span></template
    >
    <template #what="{ row }"
      ><StateTag :state="row.what" />
      <span v-if="unmanaged(row)" class="tone-warn" :title="t('changes.unmanagedWhy')">{{ t('changes.unmanaged') }}</span></template
    >
    <template #subject="{ row }">{{ t(`changes.of.${row.subject}`) }}</template>
    <template #system="{ row }"
      ><SystemLink v-if="row.system_id" :name="row.system" /><template v-else>{{ row.system }}</template></template
    >
    <template #words="{ row }"
      ><span :title="row.words">{{ row.words }}</span></template
    >
    <template #made_by="{ row }"
      ><RouterLink v-if="row.rotation_id" :to="`/rotations/${row.rotation_id}`">{{
        t('changes.rotationOne', { n: row.rotation_id })
      }}</RouterLink
      ><span v-else :title="row.by_whom">{{ by(row) }}</span></template
    >
    <template #at="{ row }"><When :at="row.at" /></template>
    <template #beside="{ row }">
      <h2 class="break">
        <RouterLink v-if="path(row)" :to="path(row)">{{ row.name }}</RouterLink><template v-else>{{ row.name }}</template>
      </h2>
      <p>
        <StateTag :state="row.what" /> <span class="soft">{{ t(`changes.of.${row.subject}`) }}, {{ row.kind }}, {{ row.system }}</span>
      </p>
      <p v-if="unmanaged(row)" class="tone-warn">{{ t('changes.unmanagedWhy') }}</p>
      <ChangeFields :change="row" />
      <ChangeWitnesses v-if="row.witnesses" :witnesses="row.witnesses" />
      <p class="soft">
        {{ by(row) }}, {{ t('changes.seenAt') }} <When :at="row.at" /><template v-if="row.survey_id"
          >, <RouterLink :to="`/surveys/${row.survey_id}`">{{ t('surveys.one', { n: row.survey_id }) }}</RouterLink></template
        >
      </p>
    </template>
  </ListPage>
</template>

<style scoped>
.when {
  margin-bottom: 10px;
  flex-wrap: wrap;
}
</style>
