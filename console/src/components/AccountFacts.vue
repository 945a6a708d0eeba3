<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import AccountLabels from './AccountLabels.vue'
import AccountPolicy from './AccountPolicy.vue'
import Facts, { type Fact } from './Facts.vue'
import When from './When.vue'
import { local, never } from './words'

const props = defineProps<{ account: Schemas['Account'] }>()
/** The name in a DN; the whole of it is on hover. */
const short = (dn: string) => /^[A-Za-z]+=((?:[^,\\]|\\.)+)/.exec(dn)?.[1] ?? dn
const facts = computed<Fact[]>(() => {
  const a = props.account
  return [
    { key: 'dn', label: t('accounts.dn'), value: a.dn, mono: true },
    { key: 'upn', label: t('accounts.upn'), value: a.upn },
    { key: 'sid', label: t('accounts.sid'), value: a.sid, mono: true },
    { key: 'former', label: t('accounts.formerSids'), value: a.former_sids?.join(', '), mono: true },
    { key: 'uid', label: t('accounts.uid'), value: a.uid },
    { key: 'type', label: t('fields.type'), value: a.type },
    { key: 'enabled', label: t('accounts.enabled'), value: a.locked === 'yes' ? `${a.enabled}, ${t('accounts.isLocked')}` : a.enabled },
    { key: 'changed', label: t('accounts.changed'), always: true },
    { key: 'expires', label: t('accounts.expires'), always: true },
    { key: 'end', label: t('accounts.end'), value: never(a.account_expires) ? '' : 'there' },
    { key: 'logon', label: t('accounts.lastLogOn'), value: never(a.last_logon) ? '' : 'there' },
    { key: 'principals', label: t('accounts.principals'), value: a.principals?.join(', ') },
    { key: 'groups', label: t('accounts.groups'), value: a.groups?.length },
    { key: 'pair', label: t('accounts.pair'), value: a.pair },
    { key: 'owner', label: t('fields.owner'), value: a.owner },
    { key: 'labels', label: t('fields.labels'), always: true },
    { key: 'policy', label: t('policies.policy'), always: true },
    { key: 'seen', label: t('fields.seen'), always: true },
  ]
})
</script>

<template>
  <Facts :facts="facts">
    <template #changed
      ><When v-if="!never(account.password_changed)" :at="account.password_changed" /><span v-else class="soft">{{
        t('words.notKnown')
      }}</span
      >{{ ' ' }} <span class="soft">{{ local(account.password_changed) }}</span></template
    >
    <template #expires
      ><template v-if="account.never_expires">{{ t('words.never') }}</template
      ><When v-else-if="!never(account.password_expires)" :at="account.password_expires" /><span v-else class="soft">{{
        t('words.notKnown')
      }}</span></template
    >
    <template #end><When :at="account.account_expires" /></template>
    <template #logon><When :at="account.last_logon" /></template>
    <template #groups
      ><div v-for="g in (account.groups ?? []).slice(0, 6)" :key="g" :title="g">{{ short(g) }}</div>
      <div v-if="(account.groups?.length ?? 0) > 6" class="soft" :title="account.groups?.slice(6).join('\n')">
        {{ t('dependents.more', (account.groups?.length ?? 0) - 6) }}
      </div></template
    >
    <template #pair
      >{{ account.pair }}
      <span class="soft">{{ account.pair_not ? t('accounts.pairNot', { why: account.pair_not }) : t('accounts.pairFits') }}</span></template
    >
    <template #labels><AccountLabels :account="account.id" /></template>
    <template #policy><AccountPolicy :account="account.id" /></template>
    <template #seen><When :at="account.seen" />, {{ t('words.first') }} <When :at="account.first_seen" /></template>
  </Facts>
</template>
