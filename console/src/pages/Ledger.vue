<script setup lang="ts">
import { Alert, Button, Drawer } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import LedgerPapers from '../components/LedgerPapers.vue'
import PageHead from '../components/PageHead.vue'
import PlainTable from '../components/PlainTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import { moment } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Entry = Schemas['Entry']
const session = useSession()
const columns: Column[] = [
  { key: 'index', title: t('fields.number'), field: 'index', content: 'word', compares: 'number' },
  { key: 'time', title: t('ledger.time'), field: 'time', content: 'time', compares: 'time' },
  { key: 'actor', title: t('ledger.who'), field: 'actor', content: 'word' },
  { key: 'act', title: t('ledger.act'), field: 'act', content: 'system' },
  { key: 'phase', title: t('ledger.phase'), field: 'phase', content: 'word', values: ['intent', 'outcome'] },
  { key: 'result', title: t('fields.result'), field: 'result', content: 'state' },
  { key: 'subject', title: t('ledger.subject'), field: 'subject', content: 'name' },
  { key: 'system', title: t('ledger.where'), field: 'system', content: 'word', optional: true },
  { key: 'reason', title: t('fields.reason'), field: 'reason', content: 'text', optional: true },
  { key: 'detail', title: t('ledger.words'), field: 'detail', content: 'text' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/ledger', { params: { query } }))
const key = (e: Entry) => e.index
const verification = ref<Schemas['Verification']>()
const papers = ref(false)
const { busy, trouble, work } = useWork()
const verify = () =>
  work('verify', async () => {
    verification.value = await data(api.POST('/api/v1/ledger/verify'))
  })
const changes = [
  { key: 'field', title: t('approvals.field'), width: 110 },
  { key: 'from', title: t('approvals.before'), content: 'place' as const, width: 150 },
  { key: 'to', title: t('approvals.after'), content: 'place' as const, width: 150 },
]
</script>

<template>
  <PageHead :title="t('places.ledger')" :lead="t('ledger.lead')">
    <template v-if="session.may('auditor') || session.may('administrator')">
      <Button type="primary" :loading="busy === 'verify'" @click="verify">{{ t('ledger.verify') }}</Button>
      <Button @click="papers = true">{{ t('ledger.papers') }}</Button>
    </template>
  </PageHead>
  <Trouble :words="trouble" />
  <Alert v-if="verification?.ok" type="success" show-icon role="status" class="verdict">
    <template #message
      >{{ t('ledger.holds', verification.entries) }} <span class="mono soft break">{{ verification.head }}</span></template
    >
  </Alert>
  <Alert v-else-if="verification" type="error" show-icon role="alert" class="verdict" :message="t('ledger.broken')">
    <template #description
      ><div v-for="p in verification.problems" :key="p" class="break">{{ p }}</div></template
    >
  </Alert>
  <ListPage name="ledger" :label="t('ledger.entries')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('ledger.empty')">
    <template #time="{ row }"><When :at="row.time" /></template>
    <template #result="{ row }"><StateTag :state="row.result ?? ''" /></template>
    <template #subject="{ row }"
      ><span :title="row.subject">{{ row.subject }}</span></template
    >
    <template #detail="{ row }"
      ><span class="soft" :title="row.detail">{{ row.detail }}</span></template
    >
    <template #expanded="{ row }">
      <p class="break">
        <span class="mono">{{ moment(row.time) }}</span> {{ row.actor }}: {{ row.act }} {{ row.subject }}
        <span v-if="row.system" class="soft">{{ row.system }}</span>
      </p>
      <p v-if="row.reason">{{ t('fields.reason') }}: {{ row.reason }}</p>
      <p v-if="row.detail" class="break">{{ row.detail }}</p>
      <PlainTable
        v-if="row.changes?.length"
        :label="t('approvals.changes')"
        :columns="changes"
        :rows="row.changes"
        :row-key="(c) => c.field"
      />
    </template>
  </ListPage>
  <Drawer v-model:open="papers" :width="620" :title="t('ledger.papers')" destroy-on-close><LedgerPapers v-if="papers" /></Drawer>
</template>

<style scoped>
.verdict {
  margin: 8px 0;
}
</style>
