<script setup lang="ts">
import { Button, Drawer, Select } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import DependentFacts from '../components/DependentFacts.vue'
import { groupings } from '../components/groups'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import { several, type Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Dependent = Schemas['Dependent']
const AssignPanel = defineAsyncComponent(() => import('../components/AssignPanel.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'word' },
  { key: 'place', title: t('dependents.place'), field: 'place', content: 'place' },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state' },
  { key: 'runs', title: t('dependents.runsAs'), field: 'runs_as', content: 'system' },
  { key: 'accounts', title: t('dependents.tiedTo'), field: 'account', content: 'text' },
  { key: 'start', title: t('dependents.start'), field: 'start_mode', content: 'word', optional: true },
  { key: 'seen', title: t('fields.seen'), field: 'seen', content: 'time', compares: 'time', optional: true },
  { key: 'executable', title: t('dependents.program'), field: 'executable', content: 'place', optional: true },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
  { key: 'schedule', title: t('dependents.schedule'), field: 'schedule', content: 'word', optional: true },
  {
    key: 'identity',
    title: t('dependents.identity'),
    field: 'identity',
    values: ['named', 'managed', 'virtual', 'built-in'],
    filterOnly: true,
  },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/dependents', { params: { query } }))
const key = (d: Dependent) => d.id

const chosen = ref(new Map<string | number, Dependent>())
const assigning = ref(false)
const assignable = (d: Dependent): boolean => ['service', 'task', 'pool'].includes(d.kind)
/** All that the filters show, not only this page. */
async function chooseAll(): Promise<void> {
  const next = new Map(chosen.value)
  let cursor: string | undefined
  do {
    const page = await fetch({ filter: several(route.query.f), search: several(route.query.q)[0], limit: 500, cursor })
    for (const d of page.items) if (assignable(d)) next.set(d.id, d)
    cursor = page.next
  } while (cursor && next.size < 5000)
  chosen.value = next
}
const picked = computed(() => [...chosen.value.values()])
const by = ref<string>()
const groups = groupings.map((g) => ({ value: g, label: t(`dependents.by.${g}`) }))
function print(group: unknown): void {
  void router.push({ path: '/dependents/print', query: { group: String(group), f: route.query.f, q: route.query.q } })
}
</script>

<template>
  <PageHead :title="t('places.dependents')" :lead="t('dependents.lead')" />
  <ListPage
    v-model:chosen="chosen"
    name="dependents"
    :label="t('places.dependents')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :search-hint="t('dependents.searchHint')"
    :empty="t('dependents.empty')"
    :selectable="session.may('operator') ? assignable : undefined"
  >
    <template #actions>
      <Button v-if="session.may('operator')" size="small" @click="chooseAll">{{ t('dependents.chooseAll') }}</Button>
      <Select
        v-model:value="by"
        size="small"
        class="group"
        :options="groups"
        :placeholder="t('dependents.group')"
        :aria-label="t('dependents.group')"
        @change="print"
      />
    </template>
    <template #bulk
      ><Button size="small" type="primary" @click="assigning = true">{{ t('dependents.assign') }}</Button></template
    >
    <template #name="{ row }"
      ><RouterLink :to="`/dependents/${row.id}`" :title="row.description || row.name">{{ row.name }}</RouterLink></template
    >
    <template #place="{ row }"
      ><span :title="row.place">{{ row.place }}</span></template
    >
    <template #state="{ row }"><StateTag :state="row.state ?? ''" /></template>
    <template #start="{ row }">{{ row.start_mode }}</template>
    <template #runs="{ row }"
      ><span :title="row.runs_as">{{ row.runs_as }}</span
      ><span v-if="row.identity && row.identity !== 'named'" class="soft"> {{ row.identity }}</span></template
    >
    <template #accounts="{ row }">
      <span v-for="(tie, i) in row.ties.slice(0, 2)" :key="tie.account_id + tie.evidence"
        ><template v-if="i">, </template
        ><RouterLink :to="`/accounts/${tie.account_id}`" :title="`${tie.evidence}: ${tie.strength}`">{{ tie.account }}</RouterLink></span
      ><span v-if="row.ties.length > 2" class="soft"> {{ t('dependents.more', row.ties.length - 2) }}</span>
    </template>
    <template #seen="{ row }"><When :at="row.seen" /></template>
    <template #beside="{ row }">
      <h2 class="break">
        <RouterLink :to="`/dependents/${row.id}`">{{ row.name }}</RouterLink> <StateTag :state="row.state ?? ''" />
      </h2>
      <p class="soft">{{ row.description }}</p>
      <DependentFacts :dependent="row" />
    </template>
  </ListPage>
  <Drawer v-model:open="assigning" :width="920" :title="t('dependents.assign')" destroy-on-close
    ><AssignPanel v-if="picked.length" :chosen="picked"
  /></Drawer>
</template>

<style scoped>
.group {
  width: 170px;
}
</style>
