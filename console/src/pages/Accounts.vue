<script setup lang="ts">
import { Button, Switch } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import AccountFacts from '../components/AccountFacts.vue'
import { passwordOf } from '../components/credentials'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Account = Schemas['Account']
const session = useSession()
const route = useRoute()
const router = useRouter()
const known = ['yes', 'no', 'unknown']
const columns: Column[] = [
  { key: 'name', title: t('accounts.name'), field: 'name', content: 'name', width: 214 },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'type', title: t('fields.type'), field: 'type', content: 'word', optional: true },
  { key: 'enabled', title: t('accounts.enabled'), field: 'enabled', content: 'state', values: known, optional: true },
  { key: 'changed', title: t('accounts.changed'), field: 'password_changed', content: 'time', compares: 'time' },
  { key: 'expires', title: t('accounts.expires'), field: 'password_expires', content: 'time', compares: 'time' },
  { key: 'custody', title: t('fields.custody'), field: 'custody', content: 'state', compares: 'yes' },
  { key: 'dependents', title: t('fields.dependents'), field: 'dependents', content: 'number', compares: 'number' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text' },
  { key: 'labels', title: t('fields.labels'), field: 'labels', content: 'word', optional: true },
  { key: 'locked', title: t('accounts.locked'), field: 'locked', content: 'state', values: known, optional: true },
  { key: 'display_name', title: t('accounts.displayName'), field: 'display_name', content: 'name', optional: true },
  { key: 'owner', title: t('fields.owner'), field: 'owner', content: 'word', optional: true },
  { key: 'dn', title: t('accounts.dn'), field: 'dn', content: 'place', optional: true },
  { key: 'upn', title: t('accounts.upn'), field: 'upn', content: 'place', optional: true },
  { key: 'sid', title: t('accounts.sid'), field: 'sid', content: 'place', optional: true },
  { key: 'uid', title: t('accounts.uid'), field: 'uid', content: 'word', optional: true },
  { key: 'last_logon', title: t('accounts.lastLogOn'), field: 'last_logon', content: 'time', compares: 'time', optional: true },
  { key: 'seen', title: t('fields.seen'), field: 'seen', content: 'time', compares: 'time', optional: true },
  { key: 'first_seen', title: t('fields.firstSeen'), field: 'first_seen', content: 'time', compares: 'time', optional: true },
  { key: 'never', title: t('accounts.neverExpires'), field: 'never_expires', compares: 'yes', filterOnly: true },
  { key: 'verdict', title: t('fields.verdict'), field: 'verdict', values: ['accepted', 'refused', 'unclear'], filterOnly: true },
  { key: 'groups', title: t('accounts.groups'), field: 'groups', filterOnly: true },
  { key: 'gone', title: t('fields.gone'), field: 'gone', compares: 'time', filterOnly: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/accounts', { params: { query } }))
const key = (a: Account) => a.id

// Computers and what systems come with are behind a switch; whoever searches or filters means all.
const all = computed(() => route.query.all === 'yes')
const always = computed(() => (all.value || route.query.f || route.query.q ? [] : ['built_in=false']))
const showAll = (on: boolean) => void router.replace({ query: { ...route.query, all: on ? 'yes' : undefined } })

const chosen = ref(new Map<string | number, Account>())
const busy = ref(false)
const said = ref('')
const trouble = ref('')
/** Proves each sealed value of those that are chosen, one after the other. */
async function verify(): Promise<void> {
  busy.value = true
  trouble.value = ''
  const refused: string[] = []
  let accepted = 0
  for (const account of chosen.value.values()) {
    said.value = t('accounts.verifying', { name: account.name })
    try {
      const path = { id: await passwordOf(account.id) }
      const v = await data(api.POST('/api/v1/credentials/{id}/custody/verify', { params: { path } }))
      if (v.accepted) accepted++
      else refused.push(`${account.name}: ${v.words}`)
    } catch (e) {
      refused.push(`${account.name}: ${e instanceof Error ? e.message : String(e)}`)
    }
  }
  said.value = t('accounts.verified', accepted)
  trouble.value = refused.join('; ')
  busy.value = false
}
const keptOnes = computed(() => [...chosen.value.values()].every((a) => a.custody))
</script>

<template>
  <PageHead :title="t('places.accounts')" :lead="t('accounts.lead')" />
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble :words="trouble" />
  <ListPage
    v-model:chosen="chosen"
    name="accounts"
    :label="t('places.accounts')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :always="always"
    :search-hint="t('accounts.searchHint')"
    :empty="t('accounts.empty')"
    :selectable="session.may('operator') ? () => true : undefined"
  >
    <template #switches
      ><label v-if="!route.query.f && !route.query.q" class="row"
        ><Switch size="small" :checked="all" @change="(on) => showAll(!!on)" /> {{ t('accounts.showAll') }}</label
      ></template
    >
    <template #bulk
      ><Button size="small" :loading="busy" :disabled="!keptOnes" :title="keptOnes ? undefined : t('accounts.onlyKept')" @click="verify">{{
        t('accounts.verify')
      }}</Button></template
    >
    <template #name="{ row }"
      ><RouterLink :to="`/accounts/${row.id}`" :title="row.name">{{ row.name }}</RouterLink
      >{{ ' ' }}<StateTag v-if="!never(row.gone)" state="gone" /><StateTag
        v-if="row.enabled === 'no'"
        :state="t('accounts.disabled')" /><StateTag v-if="row.locked === 'yes'" state="locked"
    /></template>
    <template #enabled="{ row }"
      ><StateTag v-if="row.enabled !== 'yes'" :state="row.enabled" /><span v-else>{{ row.enabled }}</span></template
    >
    <template #locked="{ row }"
      ><StateTag v-if="row.locked === 'yes'" state="locked" /><span v-else>{{ row.locked }}</span></template
    >
    <template #changed="{ row }"><When :at="row.password_changed" /></template>
    <template #expires="{ row }"
      ><span v-if="row.never_expires" class="soft">{{ t('words.never') }}</span
      ><When v-else :at="row.password_expires"
    /></template>
    <template #custody="{ row }"><StateTag v-if="row.custody" :state="row.verdict || 'taken'" /></template>
    <template #last_logon="{ row }"><When :at="row.last_logon" /></template>
    <template #seen="{ row }"><When :at="row.seen" /></template>
    <template #first_seen="{ row }"><When :at="row.first_seen" /></template>
    <template #description="{ row }"
      ><span class="soft" :title="row.description">{{ row.description }}</span></template
    >
    <template #beside="{ row }">
      <h2 class="break">
        <RouterLink :to="`/accounts/${row.id}`">{{ row.name }}</RouterLink> <span class="soft">{{ t('words.on') }} {{ row.system }}</span>
      </h2>
      <p class="soft">{{ row.description }}</p>
      <AccountFacts :account="row" />
    </template>
    <template #labels="{ row }">{{ row.labels.join(', ') }}</template>
  </ListPage>
</template>
