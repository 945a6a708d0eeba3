<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, Problem, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import { moment } from '../components/words'
import { useSession } from '../state/session'

type Entry = Schemas['Entry']
const session = useSession()
const columns: Column[] = [
  { key: 'index', title: 'Number', field: 'index' },
  { key: 'time', title: 'Time', field: 'time' },
  { key: 'actor', title: 'Who', field: 'actor' },
  { key: 'act', title: 'Act', field: 'act' },
  { key: 'phase', title: 'Phase', field: 'phase' },
  { key: 'result', title: 'Result', field: 'result' },
  { key: 'subject', title: 'On what', field: 'subject', long: true },
  { key: 'system', title: 'Where', field: 'system' },
  { key: 'reason', title: 'Why', field: 'reason' },
  { key: 'detail', title: 'Words', field: 'detail', width: '24%', long: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/ledger', { params: { query } }))
const key = (e: Entry) => e.index
const verification = ref<Schemas['Verification']>()
const trouble = ref('')
const busy = ref(false)

async function verify(): Promise<void> {
  busy.value = true
  trouble.value = ''
  try {
    verification.value = await data(api.POST('/api/v1/ledger/verify'))
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <h1>Ledger</h1>
  <p class="soft">Every act, written before it happens and with its outcome after, in a form in which any alteration shows.</p>
  <Trouble :words="trouble" />
  <div v-if="verification" class="panel verdict" role="status">
    <template v-if="verification.ok"
      ><StateTag state="holds" as="ok" /> {{ verification.entries }} entries; every one gives its hash, and all of them give the signed
      checkpoint. <span class="mono soft">{{ verification.head }}</span></template
    >
    <template v-else
      ><StateTag state="does not hold" as="failed" />
      <div v-for="p in verification.problems" :key="p" class="break">{{ p }}</div></template
    >
  </div>
  <ServerTable label="Ledger entries" :columns="columns" :fetch="fetch" :row-key="key" empty="The ledger is empty.">
    <template #actions
      ><Button v-if="session.may('auditor') || session.may('administrator')" :loading="busy" @click="verify">Verify</Button></template
    >
    <template #time="{ row }"
      ><span class="mono keep">{{ moment(row.time) }}</span></template
    >
    <template #result="{ row }"><StateTag :state="row.result ?? ''" /></template>
    <template #detail="{ row }"
      ><span class="soft">{{ row.detail }}</span></template
    >
  </ServerTable>
</template>

<style scoped>
.verdict {
  margin-bottom: 10px;
}
</style>
