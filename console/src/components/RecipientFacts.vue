<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Facts, { type Fact } from './Facts.vue'
import When from './When.vue'
import { never } from './words'

/** A recipient in full: where it is told, what, and how it stands with it. */
const props = defineProps<{ of: Schemas['Recipient']; told: string }>()
const facts = computed<Fact[]>(() => [
  { key: 'address', label: t('messages.address'), value: props.of.address, mono: true },
  { key: 'from', label: t('messages.from'), value: props.of.from },
  { key: 'to', label: t('messages.to'), value: props.of.to?.join(', ') },
  { key: 'user', label: t('messages.mailUser'), value: props.of.user },
  { key: 'told', label: t('messages.what'), value: props.told },
  { key: 'waiting', label: t('messages.waiting'), value: props.of.waiting },
  { key: 'given', label: t('messages.givenUp'), value: props.of.given_up },
  { key: 'sent', label: t('messages.lastSent'), always: !never(props.of.sent) },
  { key: 'trouble', label: t('messages.trouble'), value: props.of.trouble },
  { key: 'description', label: t('fields.description'), value: props.of.description },
  { key: 'changed', label: t('rules.changed'), always: true },
])
</script>

<template>
  <h2 class="break">{{ of.name }}</h2>
  <Facts :facts="facts">
    <template #sent><When :at="of.sent!" /></template>
    <template #changed><When :at="of.changed" /> {{ of.changed_by }}</template>
  </Facts>
</template>
