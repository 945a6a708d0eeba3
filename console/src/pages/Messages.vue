<script setup lang="ts">
import { Button, Segmented } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { never } from '../components/words'
import { useWork } from '../components/work'
import { useDecided } from '../lists/decided'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const MessageList = defineAsyncComponent(() => import('../components/MessageList.vue'))
const RecipientFacts = defineAsyncComponent(() => import('../components/RecipientFacts.vue'))
const RecipientForm = defineAsyncComponent(() => import('../components/RecipientForm.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Recipient = Schemas['Recipient']
const session = useSession()
const may = computed(() => session.may('administrator'))
const again = computed(() => may.value || session.may('operator'))
const route = useRoute()
const router = useRouter()
const views = ['recipients', 'messages'].map((value) => ({ value, label: t(`messages.view.${value}`) }))
const view = computed({
  get: () => String(route.query.view ?? 'recipients'),
  set: (to) => void router.replace({ query: to === 'recipients' ? {} : { view: to } }),
})
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'state', width: 112, values: ['mail', 'syslog', 'webhook'] },
  { key: 'address', title: t('messages.address'), field: 'address', content: 'text' },
  { key: 'what', title: t('messages.what'), content: 'text' },
  { key: 'waiting', title: t('messages.waiting'), field: 'waiting', content: 'number', compares: 'number', width: 92 },
  { key: 'given_up', title: t('messages.givenUp'), field: 'given_up', content: 'number', compares: 'number', width: 92 },
  { key: 'sent', title: t('messages.lastSent'), content: 'time', optional: true },
  { key: 'trouble', title: t('messages.trouble'), content: 'text', optional: true },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
  { key: 'changed', title: t('rules.changed'), field: 'changed', content: 'time', compares: 'time', optional: true },
  ...(again.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts', width: 226 } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/recipients', { params: { query } }))
const key = (r: Recipient) => r.id
/** What it wants to be told, in words. */
const what = (r: Recipient) =>
  [
    t('messages.atLeast', { severity: t(`messages.severity.${r.least}`) }),
    (r.events ?? []).join(', '),
    r.labels?.length ? t('messages.ofLabels', { names: r.labels.join(', ') }) : '',
  ]
    .filter(Boolean)
    .join('; ')
const { holds, said, open, of, going, begin, done } = useDecided<Recipient>()
const { busy, trouble, work } = useWork()
const at = (r: Recipient) => ({ params: { path: { name: r.name } } })
const test = (r: Recipient) =>
  work(`test ${r.name}`, async () => {
    const answer = await data(api.POST('/api/v1/recipients/{name}/test', at(r)))
    done(t('messages.tested', { name: r.name, said: answer.said }))
  })
const retry = (r: Recipient) =>
  work(`retry ${r.name}`, async () => {
    const answer = await data(api.POST('/api/v1/recipients/{name}/retry', at(r)))
    done(t('messages.again', { name: r.name, n: answer.messages }))
  })
const remove = (r: Recipient) =>
  data(api.DELETE('/api/v1/recipients/{name}', { params: { path: { name: r.name }, query: { revision: r.revision } } }))
</script>

<template>
  <PageHead :title="t('places.messages')" :lead="t('messages.lead')">
    <Segmented v-model:value="view" :options="views" :aria-label="t('messages.show')" />
    <Button v-if="may" type="primary" @click="begin()">{{ t('messages.add') }}</Button>
  </PageHead>
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble :words="trouble" />
  <MessageList v-if="view === 'messages'" />
  <ListPage
    v-else
    :ref="holds"
    name="recipients"
    :label="t('messages.view.recipients')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('messages.nobody')"
  >
    <template #kind="{ row }"
      ><StateTag
        :state="row.paused ? t('messages.paused') : t(`messages.kind.${row.kind}`)"
        :as="row.paused ? 'stopped' : row.trouble || row.given_up ? 'failed' : 'plain'"
    /></template>
    <template #address="{ row }"
      ><span class="mono" :title="row.address">{{ row.address }}</span></template
    >
    <template #what="{ row }"
      ><span :title="what(row)">{{ what(row) }}</span></template
    >
    <template #sent="{ row }"
      ><When v-if="!never(row.sent)" :at="row.sent" /><span v-else class="soft">{{ t('words.never') }}</span></template
    >
    <template #trouble="{ row }"
      ><span :title="row.trouble">{{ row.trouble }}</span></template
    >
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #beside="{ row }"><RecipientFacts :of="row" :told="what(row)" /></template>
    <template #acts="{ row }">
      <div class="row">
        <Button v-if="may" size="small" :loading="busy === `test ${row.name}`" @click="test(row)">{{ t('messages.test') }}</Button>
        <Button v-if="row.given_up" size="small" :loading="busy === `retry ${row.name}`" @click="retry(row)">{{
          t('messages.retry')
        }}</Button>
        <Button v-if="may" size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button v-if="may" size="small" @click="going = row">{{ t('do.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <RecipientForm v-if="open" :of="of" @done="done" @close="open = false" />
  <RemoveNamed
    v-if="going"
    :title="t('messages.removeAsk', { name: going.name })"
    :words="t('messages.removeWords')"
    :said="t('messages.removed', { name: going.name })"
    :remove="() => remove(going!)"
    @done="done"
    @close="going = undefined"
  />
</template>
