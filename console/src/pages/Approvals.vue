<script setup lang="ts">
import { Button, Input, Popconfirm } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import { useSession } from '../state/session'

type Approval = Schemas['Approval']
const columns: Column[] = [
  { key: 'state', title: 'State', field: 'state' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'what', title: 'What', field: 'what', width: '30%', long: true },
  { key: 'changes', title: 'Before and after', width: '30%', long: true },
  { key: 'asked_by', title: 'Asked by', field: 'asked_by' },
  { key: 'asked', title: 'Asked', field: 'asked' },
  { key: 'decided', title: 'Decided', field: 'decided_by' },
  { key: 'acts', title: 'Decide' },
]
const session = useSession()
const table = ref<{ reload: () => void }>()
const words = ref('')
const { busy, trouble, work } = useWork()
const fetch = (query: ListQuery) => data(api.GET('/api/v1/approvals', { params: { query } }))
const key = (a: Approval) => a.id
const own = (a: Approval) => a.asked_by.toLowerCase() === session.me?.name.toLowerCase()

const decide = (a: Approval, yes: boolean) =>
  work(`${yes}${a.id}`, async () => {
    const params = { path: { id: a.id } }
    if (yes) await data(api.POST('/api/v1/approvals/{id}/approve', { params, body: { digest: a.digest, words: words.value } }))
    else await data(api.POST('/api/v1/approvals/{id}/refuse', { params, body: { words: words.value } }))
    words.value = ''
    table.value?.reload()
  })
</script>

<template>
  <h1>Approvals</h1>
  <p class="soft">
    What one person asks for and another one approves: where stored secrets may be sent, rotations without a rehearsal that passed, and who
    may approve. Until then nothing of it is done.
  </p>
  <Trouble :words="trouble" />
  <ServerTable
    ref="table"
    label="Approvals"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    empty="Nothing was asked for. While only one person may approve, that person acts alone, and the ledger says so."
  >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #what="{ row }"
      >{{ row.what }}
      <div v-if="row.reason" class="soft">{{ row.reason }}</div></template
    >
    <template #changes="{ row }">
      <ul v-if="row.changes.length" class="changes">
        <li v-for="c in row.changes" :key="c.field">
          {{ c.field }}: <span class="mono">{{ c.from || 'nothing' }}</span> → <span class="mono">{{ c.to || 'nothing' }}</span>
        </li>
      </ul>
    </template>
    <template #asked="{ row }"><When :at="row.asked" /></template>
    <template #decided="{ row }"
      >{{ row.decided_by }}
      <div v-if="row.words" class="soft">{{ row.words }}</div></template
    >
    <template #acts="{ row }">
      <div v-if="row.state === 'asked'" class="row">
        <Popconfirm
          v-if="session.may('approver') && !own(row)"
          :title="`Approve what ${row.asked_by} asked for? It is done at once.`"
          ok-text="Approve"
          cancel-text="Not now"
          @confirm="decide(row, true)"
        >
          <template #description><Input v-model:value="words" placeholder="Why (recorded)" aria-label="Why it is approved" /></template>
          <Button type="primary" size="small" :loading="busy === `true${row.id}`">Approve</Button>
        </Popconfirm>
        <Popconfirm
          v-if="session.may('approver') || own(row)"
          :title="own(row) ? 'Withdraw your request?' : 'Refuse it?'"
          :ok-text="own(row) ? 'Withdraw' : 'Refuse'"
          cancel-text="Not now"
          @confirm="decide(row, false)"
        >
          <template #description><Input v-model:value="words" placeholder="Why (recorded)" aria-label="Why it is refused" /></template>
          <Button size="small" :loading="busy === `false${row.id}`">{{ own(row) ? 'Withdraw' : 'Refuse' }}</Button>
        </Popconfirm>
      </div>
    </template>
  </ServerTable>
</template>

<style scoped>
.changes {
  margin: 0;
  padding-left: 16px;
  overflow-wrap: anywhere;
}
</style>
