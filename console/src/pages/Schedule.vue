<script setup lang="ts">
import { Segmented } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import FreezeButton from '../components/FreezeButton.vue'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import When from '../components/When.vue'
import { never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const ScheduleCalendar = defineAsyncComponent(() => import('../components/ScheduleCalendar.vue'))
const DutiesTable = defineAsyncComponent(() => import('../components/DutiesTable.vue'))
type Turn = Schemas['Turn']
const session = useSession()
const route = useRoute()
const router = useRouter()
const views = ['list', 'calendar', 'duties'].map((value) => ({ value, label: t(`schedule.view.${value}`) }))
const view = computed({
  get: () => String(route.query.view ?? 'list'),
  set: (to) => void router.replace({ query: to === 'list' ? {} : { view: to } }),
})
const columns: Column[] = [
  { key: 'credential', title: t('policies.credential'), field: 'credential', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  {
    key: 'state',
    title: t('fields.state'),
    field: 'state',
    content: 'state',
    width: 128,
    values: ['planned', 'due', 'failed', 'running', 'paused'],
  },
  { key: 'next', title: t('policies.next'), field: 'next', content: 'time', compares: 'time' },
  { key: 'policy', title: t('policies.policy'), field: 'policy', content: 'system' },
  { key: 'window', title: t('policies.window'), field: 'window', content: 'system', optional: true },
  { key: 'due', title: t('schedule.dueSince'), field: 'due', content: 'time', compares: 'time' },
  { key: 'tried', title: t('schedule.tried'), field: 'tried', content: 'time', compares: 'time', optional: true },
  { key: 'failed', title: t('schedule.failed'), field: 'failed', content: 'number', compares: 'number', optional: true },
  { key: 'words', title: t('schedule.came'), field: 'words', content: 'text' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/schedule', { params: { query } }))
const key = (v: Turn) => v.credential_id
const tones: Record<Turn['state'], string> = {
  planned: 'plain',
  due: 'mode-stopped',
  failed: 'failed',
  running: 'mode-running',
  paused: 'stopped',
}
</script>

<template>
  <PageHead :title="t('places.schedule')" :lead="t('schedule.lead')">
    <Segmented v-model:value="view" :options="views" :aria-label="t('schedule.show')" />
    <FreezeButton v-if="session.may('operator') || session.may('approver') || session.may('administrator')" />
  </PageHead>
  <ScheduleCalendar v-if="view === 'calendar'" />
  <DutiesTable v-else-if="view === 'duties'" />
  <ListPage
    v-else
    name="schedule"
    :label="t('places.schedule')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('schedule.noTurns')"
  >
    <template #credential="{ row }"
      ><RouterLink :to="row.account_id ? `/accounts/${row.account_id}` : `/credentials/${row.credential_id}`">{{
        row.credential
      }}</RouterLink></template
    >
    <template #system="{ row }"><SystemLink :name="row.system" /></template>
    <template #state="{ row }"><StateTag :state="t(`schedule.state.${row.state}`)" :as="tones[row.state]" /></template>
    <template #next="{ row }"
      ><When v-if="!never(row.next)" :at="row.next" /><span v-else class="soft">{{ t('words.never') }}</span></template
    >
    <template #policy="{ row }"
      ><RouterLink to="/policies">{{ row.policy }}</RouterLink></template
    >
    <template #due="{ row }"><When v-if="!never(row.due)" :at="row.due" /></template>
    <template #tried="{ row }"><When v-if="!never(row.tried)" :at="row.tried" /></template>
    <template #words="{ row }"
      ><RouterLink v-if="row.rotation_id" :to="`/rotations/${row.rotation_id}`" :title="row.words">{{
        row.words || t('schedule.lastOne', { n: row.rotation_id })
      }}</RouterLink
      ><span v-else :title="row.words">{{ row.words }}</span></template
    >
  </ListPage>
</template>
