<script setup lang="ts">
import { Button, Input, Popconfirm } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import PlainTable from '../components/PlainTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Approval = Schemas['Approval']
const columns: Column[] = [
  { key: 'what', title: t('approvals.what'), field: 'what', content: 'text' },
  {
    key: 'state',
    title: t('fields.state'),
    field: 'state',
    content: 'state',
    values: ['asked', 'approved', 'refused', 'withdrawn', 'superseded', 'expired'],
  },
  {
    key: 'kind',
    title: t('fields.kind'),
    field: 'kind',
    content: 'word',
    values: ['endpoint', 'rotation', 'person', 'requirement'],
    optional: true,
  },
  { key: 'changes', title: t('approvals.changes'), content: 'text' },
  { key: 'asked_by', title: t('approvals.askedBy'), field: 'asked_by', content: 'word' },
  { key: 'asked', title: t('approvals.asked'), field: 'asked', content: 'time', compares: 'time' },
  { key: 'decided', title: t('approvals.decided'), field: 'decided_by', content: 'word', optional: true },
  { key: 'acts', title: t('approvals.decide'), content: 'acts' },
]
const session = useSession()
const table = ref<{ reload: () => void }>()
const words = ref('')
const { busy, trouble, work } = useWork()
const fetch = (query: ListQuery) => data(api.GET('/api/v1/approvals', { params: { query } }))
const key = (a: Approval) => a.id
const own = (a: Approval) => a.asked_by.toLowerCase() === session.me?.name.toLowerCase()
const changed = (a: Approval) =>
  a.changes
    .map((c) => (c.from ? `${c.field}: ${c.from} → ${c.to || t('words.nothing')}` : `${c.field}: ${c.to || t('words.nothing')}`))
    .join('; ')

const decide = (a: Approval, yes: boolean) =>
  work(`${yes}${a.id}`, async () => {
    const params = { path: { id: a.id } }
    if (yes) await data(api.POST('/api/v1/approvals/{id}/approve', { params, body: { digest: a.digest, words: words.value } }))
    else await data(api.POST('/api/v1/approvals/{id}/refuse', { params, body: { words: words.value } }))
    words.value = ''
    table.value?.reload()
  })
const fields = [
  { key: 'field', title: t('approvals.field'), width: 110 },
  { key: 'from', title: t('approvals.before'), content: 'place' as const, width: 150 },
  { key: 'to', title: t('approvals.after'), content: 'place' as const, width: 150 },
]
/** A rotation changes nothing that stood there before: it has one column. */
const fieldsOf = (a: Approval) =>
  a.changes.some((c) => c.from) ? fields : [fields[0]!, { key: 'to', title: t('approvals.what'), content: 'place' as const, width: 300 }]
</script>

<template>
  <PageHead :title="t('places.approvals')" :lead="t('approvals.lead')" />
  <Trouble :words="trouble" />
  <ListPage
    ref="table"
    name="approvals"
    :label="t('places.approvals')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('approvals.empty')"
  >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #what="{ row }"
      ><span :title="row.what">{{ row.what }}</span></template
    >
    <template #changes="{ row }"
      ><span class="mono" :title="changed(row)">{{ changed(row) }}</span></template
    >
    <template #asked="{ row }"><When :at="row.asked" /></template>
    <template #decided="{ row }"
      ><span :title="row.words">{{ row.decided_by }}</span></template
    >
    <template #acts="{ row }">
      <div v-if="row.state === 'asked'" class="row">
        <Popconfirm
          v-if="session.may('approver') && !own(row)"
          :title="t('approvals.approveAsk', { name: row.asked_by })"
          :ok-text="t('approvals.approve')"
          :cancel-text="t('do.notNow')"
          placement="left"
          @confirm="decide(row, true)"
        >
          <template #description
            ><Input v-model:value="words" :placeholder="t('fields.whyRecorded')" :aria-label="t('approvals.whyApproved')"
          /></template>
          <Button type="primary" size="small" :loading="busy === `true${row.id}`">{{ t('approvals.approve') }}</Button>
        </Popconfirm>
        <Popconfirm
          v-if="session.may('approver') || own(row)"
          :title="own(row) ? t('approvals.withdrawAsk') : t('approvals.refuseAsk')"
          :ok-text="own(row) ? t('approvals.withdraw') : t('approvals.refuse')"
          :cancel-text="t('do.notNow')"
          placement="left"
          @confirm="decide(row, false)"
        >
          <template #description
            ><Input v-model:value="words" :placeholder="t('fields.whyRecorded')" :aria-label="t('approvals.whyRefused')"
          /></template>
          <Button size="small" :loading="busy === `false${row.id}`">{{
            own(row) ? t('approvals.withdraw') : t('approvals.refuse')
          }}</Button>
        </Popconfirm>
      </div>
    </template>
    <template #beside="{ row }">
      <h2 class="break">{{ row.what }}</h2>
      <p>
        <StateTag :state="row.state" /> <span class="soft">{{ t('approvals.askedBy') }} {{ row.asked_by }}</span> <When :at="row.asked" />
      </p>
      <p v-if="row.state === 'asked' && row.expires" class="soft">{{ t('approvals.until') }} <When :at="row.expires" /></p>
      <p v-if="row.reason" class="break">{{ row.reason }}</p>
      <PlainTable
        v-if="row.changes.length"
        :label="t('approvals.changes')"
        :columns="fieldsOf(row)"
        :rows="row.changes"
        :row-key="(c) => c.field"
      />
      <p v-if="row.systems.length" class="soft">{{ t('approvals.waiting', { names: row.systems.join(', ') }) }}</p>
      <p v-if="row.words">{{ row.decided_by }}: {{ row.words }}</p>
    </template>
  </ListPage>
</template>
