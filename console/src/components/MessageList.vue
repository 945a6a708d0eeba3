<script setup lang="ts">
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { t } from '../texts'
import StateTag from './StateTag.vue'
import When from './When.vue'

/** What was sent, waits, or was given up; each with what it says. */
type Message = Schemas['Message']
const columns: Column[] = [
  { key: 'id', title: t('fields.number'), field: 'id', content: 'number', compares: 'number', width: 88 },
  { key: 'recipient', title: t('messages.recipient'), field: 'recipient', content: 'name', width: 120 },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state', width: 104, values: ['waiting', 'sent', 'given-up'] },
  { key: 'severity', title: t('messages.graveness'), field: 'severity', content: 'state', width: 132, compares: 'number' },
  { key: 'subject', title: t('messages.says'), field: 'subject', content: 'text' },
  { key: 'made', title: t('messages.made'), field: 'made', content: 'time', compares: 'time' },
  { key: 'attempts', title: t('messages.attempts'), field: 'attempts', content: 'number', compares: 'number', optional: true },
  { key: 'words', title: t('messages.answered'), field: 'words', content: 'text' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/messages', { params: { query } }))
const key = (m: Message) => m.id
const tones: Record<Message['state'], string> = { waiting: 'mode-running', sent: 'done', 'given-up': 'failed' }
const grave: Record<Message['severity'], string> = {
  critical: 'high',
  error: 'high',
  warning: 'medium',
  notice: 'plain',
  informational: 'plain',
}
const all = (m: Message) => m.events.map((e) => e.text).join('\n')
</script>

<template>
  <ListPage
    name="messages"
    :label="t('messages.view.messages')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('messages.none')"
  >
    <template #state="{ row }"><StateTag :state="t(`messages.state.${row.state}`)" :as="tones[row.state]" /></template>
    <template #severity="{ row }"><StateTag :state="t(`messages.severity.${row.severity}`)" :as="grave[row.severity]" /></template>
    <template #subject="{ row }"
      ><span :title="all(row)">{{ row.subject }}</span></template
    >
    <template #made="{ row }"><When :at="row.made" /></template>
    <template #words="{ row }"
      ><span :title="row.words">{{ row.words }}</span></template
    >
    <template #beside="{ row }">
      <p v-if="row.words">{{ t('messages.answer', { n: row.attempts, words: row.words }) }}</p>
      <div v-for="(e, i) in row.events" :key="i" class="event">
        <p>
          <StateTag :state="t(`messages.severity.${e.severity}`)" :as="grave[e.severity]" /> <b>{{ e.text }}</b>
        </p>
        <p class="soft">
          <span class="mono">{{ e.event }}</span> <When :at="e.time" />
        </p>
        <p v-if="e.reason">{{ t('messages.reason', { words: e.reason }) }}</p>
        <p v-if="e.detail" class="soft">{{ e.detail }}</p>
        <p v-if="e.next">{{ e.next }}</p>
      </div>
    </template>
  </ListPage>
</template>

<style scoped>
.event {
  margin-bottom: 16px;
}
.event p {
  margin: 0 0 4px;
  overflow-wrap: anywhere;
}
</style>
