<script setup lang="ts">
import { Button, Dropdown, Menu } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'
import '../texts/managed'

const ManagedForm = defineAsyncComponent(() => import('../components/ManagedForm.vue'))
const ManagedHosts = defineAsyncComponent(() => import('../components/ManagedHosts.vue'))
const ManagedCheck = defineAsyncComponent(() => import('../components/ManagedCheck.vue'))
type Account = Schemas['Account']
const router = useRouter()
const session = useSession()
const may = computed(() => session.may('operator') || session.may('administrator'))
const directories = ref<string[]>([])
/** What is asked for: a new account, or a group for one that is there. */
const changing = ref<{ account?: Account }>()
void data(api.GET('/api/v1/systems', { params: { query: { filter: ['kind=directory'], sort: 'name', limit: 500 } } })).then(
  (page) => (directories.value = page.items.map((v) => v.name)),
  () => undefined,
)
/** Whose hosts are let in, or from which it is taken. */
const hosts = ref<{ account: Account; removing: boolean }>()
const more = computed(() => [
  { key: 'install', label: t('managed.install') },
  { key: 'assign', label: t('managed.assign') },
  { key: 'permit', label: t('managed.permit') },
  { key: 'remove', label: t('managed.remove') },
])
function chosen(account: Account, key: unknown): void {
  if (key === 'assign') void router.push({ path: '/dependents', query: { filter: ['runs_as!='] } })
  else if (key === 'permit') changing.value = { account }
  else hosts.value = { account, removing: key === 'remove' }
}
/** What is checked: a directory by itself, or one of its accounts. */
const asking = ref<{ account?: Account }>()
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('accounts.name'), field: 'name', content: 'name', width: 180 },
  { key: 'system', title: t('managed.directory'), field: 'system', content: 'system' },
  { key: 'enabled', title: t('accounts.enabled'), field: 'enabled', content: 'state', width: 100, values: ['yes', 'no', 'unknown'] },
  { key: 'dependents', title: t('fields.dependents'), field: 'dependents', content: 'number', width: 120 },
  { key: 'password_changed', title: t('managed.changed'), field: 'password_changed', content: 'time', compares: 'time' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text' },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts', width: 160 } as Column] : []),
])
const fetch = (query: ListQuery) =>
  data(api.GET('/api/v1/accounts', { params: { query: { ...query, filter: [...(query.filter ?? []), 'type=managed'] } } }))
const key = (a: Account) => a.id
</script>

<template>
  <PageHead :title="t('titles.managed')" :lead="t('managed.lead')">
    <Button v-if="may" @click="asking = {}">{{ t('managed.checkDirectory') }}</Button>
    <Button v-if="may" type="primary" @click="changing = {}">{{ t('managed.create') }}</Button>
  </PageHead>
  <ManagedForm v-if="changing" :account="changing.account" :directories="directories" @close="changing = undefined" />
  <ManagedHosts v-if="hosts" :account="hosts.account" :removing="hosts.removing" @close="hosts = undefined" />
  <ManagedCheck
    v-if="asking"
    :key="asking.account?.id ?? 0"
    :account="asking.account"
    :directories="directories"
    @close="asking = undefined"
  />
  <ListPage name="managed" :label="t('titles.managed')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('managed.empty')">
    <template #name="{ row }"
      ><RouterLink :to="`/accounts/${row.id}`">{{ row.name }}</RouterLink></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #enabled="{ row }"
      ><StateTag v-if="row.enabled !== 'yes'" :state="row.enabled" /><span v-else>{{ row.enabled }}</span></template
    >
    <template #password_changed="{ row }"><When :at="row.password_changed" /></template>
    <template #acts="{ row }"
      ><Button size="small" @click="asking = { account: row }">{{ t('managed.check') }}</Button>
      <Dropdown :trigger="['click']"
        ><Button size="small">{{ t('managed.more') }}</Button
        ><template #overlay><Menu :items="more" @click="(e) => chosen(row, e.key)" /></template></Dropdown
    ></template>
  </ListPage>
</template>
