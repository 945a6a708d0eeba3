<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Evidence from './Evidence.vue'
import Facts, { type Fact } from './Facts.vue'
import { keyFacts } from './keys'
import StateTag from './StateTag.vue'
import When from './When.vue'
import { never } from './words'

const props = defineProps<{ dependent: Schemas['Dependent'] }>()
const limit = (d: Schemas['Dependent']) =>
  [
    d.limit?.longest ? t('dependents.atMost', { n: d.limit.longest }) : '',
    d.limit?.without ? t('dependents.noneOf', { characters: d.limit.without }) : '',
  ]
    .filter(Boolean)
    .join(', ')
const facts = computed<Fact[]>(() => {
  const d = props.dependent
  return [
    { key: 'kind', label: t('fields.kind'), value: d.kind },
    { key: 'place', label: t('dependents.place'), value: d.place, mono: true },
    { key: 'runs', label: t('dependents.runsAs'), value: d.runs_as },
    { key: 'result', label: t('dependents.lastResult'), value: d.result },
    { key: 'since', label: t('dependents.runsSince'), value: never(d.started) ? '' : 'there' },
    { key: 'given', label: t('dependents.given'), value: never(d.given_at) ? '' : 'there' },
    { key: 'start', label: t('dependents.start'), value: d.start_mode },
    { key: 'schedule', label: t('dependents.schedule'), value: d.schedule },
    { key: 'program', label: t('dependents.program'), value: d.executable || (d.kind === 'tls port' ? d.requires?.[0] : ''), mono: true },
    ...(d.key ? keyFacts(d.key) : []),
    { key: 'check', label: t('dependents.check'), value: d.check ? 'there' : '' },
    { key: 'limit', label: t('dependents.limit'), value: limit(d) },
    { key: 'ties', label: t('dependents.tiedTo'), always: true },
    { key: 'seen', label: t('fields.seen'), always: true },
  ]
})
</script>

<template>
  <Facts :facts="facts">
    <template #runs
      >{{ dependent.runs_as }} <StateTag :state="dependent.identity" as="plain" /><span v-if="dependent.kind !== 'unit'" class="soft">
        {{ dependent.stores ? t('dependents.stores') : t('dependents.storesNone') }}</span
      ></template
    >
    <template #since><When :at="dependent.started" /></template>
    <template #given><When :at="dependent.given_at" /></template>
    <template #fingerprint
      ><RouterLink :to="{ path: '/credentials', query: { f: `fingerprint=${dependent.key?.fingerprint}` } }">{{
        dependent.key?.fingerprint
      }}</RouterLink></template
    >
    <template #key-begins><When :at="dependent.key?.begins" /></template>
    <template #key-used><When :at="dependent.key?.used" /></template>
    <template #key-ends><When :at="dependent.key?.ends" /></template>
    <template #check
      >{{ dependent.check?.kind }} {{ dependent.check?.target }}
      <span v-if="dependent.check?.contains" class="soft">{{
        t('dependents.contains', { text: dependent.check.contains })
      }}</span></template
    >
    <template #ties>
      <div v-for="tie in dependent.ties" :key="tie.account_id + tie.evidence">
        <RouterLink :to="`/accounts/${tie.account_id}`">{{ tie.account }}</RouterLink> <Evidence :tie="tie" />
        <span class="soft">{{ tie.detail }}</span>
      </div>
      <span v-if="!dependent.ties.length" class="soft">{{ t('dependents.noAccount') }}</span>
    </template>
    <template #seen><When :at="dependent.seen" />, {{ t('words.first') }} <When :at="dependent.first_seen" /></template>
  </Facts>
</template>
