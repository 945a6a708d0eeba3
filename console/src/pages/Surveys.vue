<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, Problem, type ListQuery, type Schemas } from '../api/client'
import { onChanged } from '../api/changes'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useSession } from '../state/session'

type Survey = Schemas['Survey']
const session = useSession()
const router = useRouter()
const trouble = ref('')
const columns: Column[] = [
  { key: 'id', title: 'Number', field: 'id' },
  { key: 'state', title: 'State', field: 'state' },
  { key: 'by', title: 'By', field: 'requested_by' },
  { key: 'started', title: 'Started', field: 'started' },
  { key: 'total', title: 'Systems', field: 'total' },
  { key: 'failed', title: 'Not read completely' },
  { key: 'added', title: 'New' },
  { key: 'altered', title: 'Changed' },
  { key: 'vanished', title: 'Gone' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/surveys', { params: { query } }))
const key = (s: Survey) => s.id

const duties = ref<Schemas['Planned'][]>([])
const plan = () =>
  data(api.GET('/api/v1/schedule'))
    .then((list) => (duties.value = list ?? []))
    .catch(() => undefined)
void plan()
onChanged(() => void plan())
const due = computed(() => duties.value.find((d) => d.name === 'survey'))

async function start(): Promise<void> {
  trouble.value = ''
  try {
    const started = await data(api.POST('/api/v1/surveys', { body: {} }))
    await router.push(`/surveys/${started.id}`)
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
</script>

<template>
  <h1>Surveys</h1>
  <p class="soft">
    Readings of systems. What was not read completely is never shown as gone.
    <template v-if="due?.due">The next regular one is due <When :at="due.due" />.</template>
    <template v-else-if="due">No regular survey is set (serve --survey-every).</template>
  </p>
  <Trouble :words="trouble" />
  <ServerTable label="Surveys" :columns="columns" :fetch="fetch" :row-key="key" empty="There was no survey yet.">
    <template #actions><Button v-if="session.may('operator')" type="primary" @click="start">Survey all systems</Button></template>
    <template #id="{ row }"
      ><RouterLink :to="`/surveys/${row.id}`">{{ row.id }}</RouterLink></template
    >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #started="{ row }"><When :at="row.started" /></template>
  </ServerTable>
</template>
