<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import AssignPanel from '../components/AssignPanel.vue'
import Evidence from '../components/Evidence.vue'
import { groupings } from '../components/groups'
import type { Column } from '../components/listing'
import ServerTable from '../components/ServerTable.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import { plural } from '../components/words'
import { useSession } from '../state/session'

type Dependent = Schemas['Dependent']
const session = useSession()
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'choose', title: 'Chosen' },
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'system', title: 'System', field: 'system' },
  { key: 'kind', title: 'Kind', field: 'kind' },
  { key: 'place', title: 'Place', field: 'place', mono: true },
  { key: 'state', title: 'State', field: 'state' },
  { key: 'start', title: 'Start', field: 'start_mode' },
  { key: 'runs', title: 'Runs as', field: 'runs_as', long: true },
  { key: 'accounts', title: 'Tied to', field: 'account' },
  { key: 'seen', title: 'Seen', field: 'seen' },
  { key: 'executable', title: 'Program', field: 'executable', filterOnly: true },
  { key: 'description', title: 'Description', field: 'description', filterOnly: true },
  { key: 'identity', title: 'Identity', field: 'identity', filterOnly: true },
  { key: 'schedule', title: 'Schedule', field: 'schedule', filterOnly: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/dependents', { params: { query } }))
const key = (d: Dependent) => d.id

const chosen = ref(new Map<number, Dependent>())
const assigning = ref(false)
const assignable = (d: Dependent): boolean => ['service', 'task', 'pool'].includes(d.kind)
function choose(d: Dependent): void {
  if (!chosen.value.delete(d.id)) chosen.value.set(d.id, d)
}
/** All that the filters show, not only this page. */
async function chooseAll(): Promise<void> {
  const list = (v: unknown): string[] => (Array.isArray(v) ? v : v === undefined || v === null ? [] : [v]).map(String)
  let cursor: string | undefined
  do {
    const page = await data(
      api.GET('/api/v1/dependents', {
        params: { query: { filter: list(route.query.f), search: list(route.query.q)[0], limit: 500, cursor } },
      }),
    )
    for (const d of page.items) if (assignable(d)) chosen.value.set(d.id, d)
    cursor = page.next
  } while (cursor && chosen.value.size < 5000)
}
const picked = computed(() => [...chosen.value.values()])
function print(event: Event): void {
  const by = (event.target as HTMLSelectElement).value
  if (by) void router.push({ path: '/dependents/print', query: { group: by, f: route.query.f, q: route.query.q } })
}
</script>

<template>
  <h1>Dependents</h1>
  <p class="soft">
    Services, scheduled jobs, application pools, running programs and files that run as an account or hold a copy of its credential.
  </p>
  <AssignPanel v-if="assigning && picked.length" :chosen="picked" />
  <ServerTable
    label="Dependents"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    search-hint="Search names, places, programs, accounts"
    empty="No dependents yet. Survey some hosts."
  >
    <template #actions>
      <template v-if="session.may('operator')">
        <span v-if="picked.length" class="soft">{{ plural(picked.length, 'dependent') }} chosen</span>
        <Button v-if="picked.length" size="small" @click="chosen.clear()">None</Button>
        <Button size="small" @click="chooseAll">Choose all shown by the filters</Button>
        <Button size="small" type="primary" :disabled="!picked.length" @click="assigning = !assigning">{{
          assigning ? 'Close' : 'Change their log-on'
        }}</Button>
      </template>
      <select class="field" aria-label="Group by and print" @change="print">
        <option value="">Group and print</option>
        <option v-for="g in groupings" :key="g.value" :value="g.value">by {{ g.text }}</option>
      </select>
    </template>
    <template #choose="{ row }"
      ><input
        v-if="assignable(row)"
        type="checkbox"
        :checked="chosen.has(row.id)"
        :aria-label="`Choose ${row.place} on ${row.system}`"
        @change="choose(row)"
    /></template>
    <template #name="{ row }"
      ><RouterLink :to="`/dependents/${row.id}`">{{ row.name }}</RouterLink>
      <div class="soft">{{ row.description }}</div></template
    >
    <template #state="{ row }"><StateTag :state="row.state ?? ''" /></template>
    <template #start="{ row }">{{ row.start_mode }}</template>
    <template #runs="{ row }"
      >{{ row.runs_as }}
      <div v-if="row.identity && row.identity !== 'named'" class="soft">{{ row.identity }}</div></template
    >
    <template #accounts="{ row }">
      <div v-for="t in row.ties" :key="t.account_id + t.evidence">
        <RouterLink :to="`/accounts/${t.account_id}`">{{ t.account }}</RouterLink> <Evidence :tie="t" />
      </div>
    </template>
    <template #seen="{ row }"><When :at="row.seen" /></template>
  </ServerTable>
</template>
