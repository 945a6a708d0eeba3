<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useSession } from '../state/session'

type Visit = Schemas['Visit']
const session = useSession()
const id = Number(useRoute().params.id)
const survey = ref<Schemas['Survey']>()
const trouble = ref('')
const columns: Column[] = [
  { key: 'system', title: 'System', field: 'system' },
  { key: 'state', title: 'State', field: 'state' },
  { key: 'added', title: 'New', field: 'added' },
  { key: 'altered', title: 'Changed', field: 'altered' },
  { key: 'vanished', title: 'Gone', field: 'vanished' },
  { key: 'took', title: 'Took' },
  { key: 'words', title: 'What happened', field: 'words', width: '45%', long: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/surveys/{id}/visits', { params: { path: { id }, query } }))
const key = (v: Visit) => v.id

async function load(): Promise<void> {
  try {
    survey.value = await data(api.GET('/api/v1/surveys/{id}', { params: { path: { id } } }))
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

async function cancel(): Promise<void> {
  try {
    await data(api.POST('/api/v1/surveys/{id}/cancel', { params: { path: { id } } }))
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}

const share = computed(() => (survey.value?.total ? (100 * survey.value.done) / survey.value.total : 0))

function took(v: Visit): string {
  if (!v.started || !v.ended || v.ended.startsWith('0001')) return ''
  return `${((Date.parse(v.ended) - Date.parse(v.started)) / 1000).toFixed(1)} s`
}
</script>

<template>
  <div class="row spread">
    <h1>Survey {{ id }} <StateTag v-if="survey" :state="survey.state" /></h1>
    <Button v-if="survey?.state === 'running' && session.may('operator')" @click="cancel">Cancel; keep what was read</Button>
  </div>
  <Trouble :words="trouble" />
  <p v-if="survey" class="soft">
    {{ survey.done }} of {{ survey.total }} systems, {{ survey.failed }} not read completely; {{ survey.added }} new,
    {{ survey.altered }} changed, {{ survey.vanished }} gone. Started <When :at="survey.started" /> by {{ survey.requested_by }}.
  </p>
  <div
    v-if="survey?.state === 'running'"
    class="meter"
    role="progressbar"
    aria-label="Systems read"
    :aria-valuenow="Math.round(share)"
    aria-valuemin="0"
    aria-valuemax="100"
  >
    <span :style="{ width: share + '%' }"></span>
  </div>
  <ServerTable label="Visits" :columns="columns" :fetch="fetch" :row-key="key" empty="No systems in this survey.">
    <template #system="{ row }"
      ><RouterLink :to="`/systems/${encodeURIComponent(row.system)}`">{{ row.system }}</RouterLink></template
    >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #took="{ row }">{{ took(row) }}</template>
    <template #words="{ row }">
      <template v-if="row.words"
        ><b>{{ row.stage }}</b> {{ row.words }}
        <div class="soft">{{ row.next_step }}</div></template
      >
      <details v-if="row.problems.length">
        <summary>{{ row.problems.length }} {{ row.problems.length === 1 ? 'place' : 'places' }} could not be read</summary>
        <div v-for="p in row.problems" :key="p.place + p.what">
          <span class="mono">{{ p.place }}</span>: {{ p.what }}<span v-if="p.next" class="soft"> ({{ p.next }})</span>
        </div>
      </details>
    </template>
  </ServerTable>
</template>

<style scoped>
.meter {
  background: var(--plain-bg);
  height: 6px;
  border-radius: 3px;
  margin: 6px 0 12px;
}
.meter span {
  display: block;
  height: 6px;
  border-radius: 3px;
  background: var(--moss);
}
</style>
