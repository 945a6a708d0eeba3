<script setup lang="ts">
import { Button, Switch } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'

const WhoMay = defineAsyncComponent(() => import('../components/WhoMay.vue'))
const route = useRoute()
const router = useRouter()
/** The question to one system is asked beside the list of all that is given. */
const asking = computed(() => route.query.view === 'who')
const ask = (yes: boolean) => router.replace({ query: { ...route.query, view: yes ? 'who' : undefined } })
type Given = Schemas['GivenRight']
const taken = ref(false)
const columns: Column[] = [
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'to', title: t('rights.to'), field: 'to', content: 'name' },
  { key: 'verb', title: t('rights.may'), field: 'verb', content: 'word' },
  { key: 'what', title: t('rights.what'), field: 'what', content: 'text' },
  { key: 'on', title: t('rights.on'), field: 'on', content: 'name' },
  { key: 'as', title: t('rights.asWhom'), field: 'as', content: 'word' },
  { key: 'terms', title: t('rights.terms'), content: 'text', optional: true },
  { key: 'text', title: t('rights.by'), field: 'text', content: 'text', optional: true },
  { key: 'source', title: t('rights.where'), field: 'source', content: 'place', optional: true },
  { key: 'first_seen', title: t('rights.since'), field: 'first_seen', content: 'time', compares: 'time' },
  { key: 'taken', title: t('rights.taken'), field: 'taken', content: 'time', compares: 'time', optional: true },
  {
    key: 'to_kind',
    title: t('rights.kind'),
    field: 'to_kind',
    compares: 'words',
    values: ['account', 'group', 'role', 'everyone', 'unknown'],
    filterOnly: true,
  },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/rights', { params: { query: { ...query, taken: taken.value } } }))
const key = (r: Given) => r.id
const listed = computed(() => (taken.value ? 'rights-taken' : 'rights'))
</script>

<template>
  <PageHead :title="t('places.rights')" :lead="t('rights.lead')">
    <Button :type="asking ? 'default' : 'primary'" :aria-expanded="asking" @click="ask(!asking)">{{
      asking ? t('rights.askNoMore') : t('rights.question')
    }}</Button>
  </PageHead>
  <template v-if="asking">
    <h2>{{ t('rights.question') }}</h2>
    <WhoMay />
    <h2>{{ t('rights.given') }}</h2>
  </template>
  <p>
    <Switch v-model:checked="taken" size="small" :aria-label="t('rights.takenOnly')" /> <span>{{ t('rights.takenOnly') }}</span>
  </p>
  <ListPage
    :key="listed"
    name="rights"
    :label="t('rights.given')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('rights.empty')"
  >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #to="{ row }"
      ><RouterLink v-if="row.account_id" :to="`/accounts/${row.account_id}?tab=rights`">{{ row.to }}</RouterLink
      ><template v-else
        >{{ row.to }} <span class="soft">{{ t(`rights.kindOf.${row.to_kind}`) }}</span></template
      ></template
    >
    <template #verb="{ row }">{{ row.may }}</template>
    <template #what="{ row }"
      ><span class="mono">{{ row.what }}</span></template
    >
    <template #terms="{ row }">{{ (row.terms ?? []).join('; ') }}</template>
    <template #text="{ row }"
      ><span class="mono">{{ row.text }}</span></template
    >
    <template #first_seen="{ row }"><When :at="row.first_seen" /></template>
    <template #taken="{ row }"><When v-if="row.taken" :at="row.taken" /></template>
  </ListPage>
</template>
