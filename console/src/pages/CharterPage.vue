<script setup lang="ts">
import { Button, Switch, TabPane, Tabs } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const AmendForm = defineAsyncComponent(() => import('../components/AmendForm.vue'))
const CharterForm = defineAsyncComponent(() => import('../components/CharterForm.vue'))
const CharterLine = defineAsyncComponent(() => import('../components/CharterLine.vue'))
const CharterMatrix = defineAsyncComponent(() => import('../components/CharterMatrix.vue'))
const CharterProofs = defineAsyncComponent(() => import('../components/CharterProofs.vue'))
const CharterVersions = defineAsyncComponent(() => import('../components/CharterVersions.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Line = Schemas['CharterLine']
const route = useRoute()
const router = useRouter()
const session = useSession()
const name = String(route.params.name)
const path = { path: { name } }
const tab = computed({
  get: () => String(route.query.tab ?? 'lines'),
  set: (to) => void router.replace({ query: to === 'lines' ? {} : { tab: to } }),
})
const of = ref<Schemas['Charter']>()
const { busy, trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    of.value = await data(api.GET('/api/v1/charters/{name}', { params: path }))
  })
void load()
onChanged(() => void load())
const said = ref('')
const check = () =>
  work('check', async () => {
    const came = await data(api.POST('/api/v1/charters/{name}/check', { params: path }))
    said.value = t('charters.checked', came.changed)
  })
const changing = ref(false)
const amending = ref(false)
const removing = ref(false)
function changed(words: string, to: string): void {
  said.value = words
  changing.value = false
  if (to !== name) void router.push(`/charters/${encodeURIComponent(to)}`)
  void load()
}
const remove = () => data(api.DELETE('/api/v1/charters/{name}', { params: { ...path, query: { version: of.value!.version } } }))

const all = ref(false)
const ended = ref(false)
const columns: Column[] = [
  {
    key: 'state',
    title: t('charters.state'),
    field: 'state',
    content: 'state',
    compares: 'words',
    values: ['forbidden', 'missing', 'differs', 'unknown', 'excess', 'met'],
    width: 120,
  },
  { key: 'account', title: t('accounts.name'), field: 'account', content: 'word', width: 130 },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system', width: 140 },
  { key: 'item', title: t('charters.what'), field: 'item', content: 'text', width: 250 },
  { key: 'through', title: t('charters.through'), content: 'word', width: 150 },
  { key: 'at_next', title: t('charters.fails'), field: 'at_next', content: 'word', width: 130 },
  { key: 'why', title: t('charters.why'), field: 'why', content: 'text', optional: true },
  { key: 'was', title: t('charters.was'), field: 'was', content: 'word', width: 96, optional: true },
  { key: 'since', title: t('charters.since'), field: 'since', content: 'time', compares: 'time', optional: true },
  { key: 'ended', title: t('charters.ended'), field: 'ended', content: 'time', compares: 'time', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/charters/lines', { params: { query: { ...query, ended: ended.value } } }))
const always = computed(() => [`charter=${name}`, ...(all.value || ended.value ? [] : ['state!=met'])])
const key = (l: Line) => l.id
const listed = computed(() => `${all.value} ${ended.value}`)
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="of">
    <PageHead :title="of.name" :lead="of.description">
      <Button
        v-if="session.may('operator') || session.may('administrator')"
        :disabled="!of.label"
        :loading="busy === 'check'"
        @click="check"
        >{{ t('charters.check') }}</Button
      >
      <Button
        v-if="session.may('operator') || session.may('administrator')"
        :disabled="!of.label || !(of.missing + of.forbidden + of.excess)"
        @click="amending = true"
        >{{ t('amendments.rehearse') }}</Button
      >
      <template v-if="session.may('administrator')">
        <Button type="primary" @click="changing = true">{{ t('do.change') }}</Button>
        <Button @click="removing = true">{{ t('do.remove') }}</Button>
      </template>
    </PageHead>
    <p v-if="said" role="status">{{ said }}</p>
    <p>
      <RouterLink v-if="of.label" :to="{ path: '/accounts', query: { f: `labels~${of.label}` } }">{{
        t('charters.isFor', of.accounts)
      }}</RouterLink><template v-else>{{ t('charters.previewNoLabel') }}</template>
    </p>
    <Tabs v-model:active-key="tab">
      <TabPane key="lines" :tab="t('charters.lines')">
        <p class="row">
          <Switch v-model:checked="all" size="small" :aria-label="t('charters.all')" /> <span>{{ t('charters.all') }}</span>
          <Switch v-model:checked="ended" size="small" :aria-label="t('charters.endedOnly')" /> <span>{{ t('charters.endedOnly') }}</span>
        </p>
        <ListPage
          :key="listed"
          name="charter-lines"
          :label="t('charters.lines')"
          :columns="columns"
          :fetch="fetch"
          :row-key="key"
          :always="always"
          :empty="t('charters.noLines')"
        >
          <template #state="{ row }"><StateTag :state="row.state" /></template>
          <template #account="{ row }"
            ><RouterLink v-if="row.account_id" :to="`/accounts/${row.account_id}?tab=rights`">{{ row.account }}</RouterLink></template
          >
          <template #system="{ row }"><SystemLink :name="row.system" /></template>
          <template #since="{ row }"><When :at="row.since" /></template>
          <template #ended="{ row }"><When v-if="row.ended" :at="row.ended" /></template>
          <template #expanded="{ row }"><CharterLine :line="row" /></template>
        </ListPage>
      </TabPane>
      <TabPane key="matrix" :tab="t('charters.matrix')"><CharterMatrix v-if="tab === 'matrix'" :name="name" /></TabPane>
      <TabPane key="proofs" :tab="t('proofs.tab')"><CharterProofs v-if="tab === 'proofs'" :name="name" /></TabPane>
      <TabPane key="text" :tab="t('charters.text')">
        <pre class="mono document" tabindex="0">{{ of.document }}</pre>
      </TabPane>
      <TabPane key="versions" :tab="t('charters.versions')"><CharterVersions v-if="tab === 'versions'" :name="name" /></TabPane>
    </Tabs>
    <AmendForm v-if="amending" :charter="name" @close="amending = false" />
    <CharterForm v-if="changing" :of="of" @done="changed" @close="changing = false" />
    <RemoveNamed
      v-if="removing"
      :title="t('charters.removeAsk', { name: of.name })"
      :words="t('charters.removeWhat')"
      :said="t('charters.removed', { name: of.name })"
      :remove="remove"
      @done="router.push('/charters')"
      @close="removing = false"
    />
  </template>
</template>

<style scoped>
.document {
  padding: 12px 16px;
  overflow: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 8px;
}
</style>
