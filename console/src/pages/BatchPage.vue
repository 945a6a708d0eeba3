<script setup lang="ts">
import { Alert, Button, Popconfirm, Progress } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import { batchTone, itemTone } from '../components/batches'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Item = Schemas['BatchItem']
const session = useSession()
const mayReport = ['auditor', 'administrator', 'operator'].some((role) => session.may(role))
const id = Number(useRoute().params.id)
const batch = ref<Schemas['Batch']>()
const { busy, trouble, work } = useWork()
const path = { params: { path: { id } } }
const load = () =>
  work('load', async () => {
    batch.value = await data(api.GET('/api/v1/batches/{id}', path))
  })
void load()
onChanged(() => void load())
const columns: Column[] = [
  { key: 'position', title: t('fields.number'), field: 'position', content: 'word', compares: 'number', width: 80 },
  { key: 'credential', title: t('policies.credential'), field: 'credential', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  {
    key: 'state',
    title: t('fields.state'),
    field: 'state',
    content: 'state',
    width: 128,
    values: ['waiting', 'ready', 'blocked', 'rotating', 'done', 'failed'],
  },
  { key: 'restarts', title: t('batches.restarts'), field: 'restarts', content: 'number', compares: 'number', width: 90 },
  { key: 'words', title: t('schedule.came'), field: 'words', content: 'text' },
  { key: 'behind', title: t('batches.notBeside'), content: 'text', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/batches/{id}/items', { params: { path: { id }, query } }))
const key = (i: Item) => i.position
const b = computed(() => batch.value)
const share = computed(() => {
  if (!b.value?.total) return 0
  const ended = b.value.state === 'rehearsing' ? b.value.total - b.value.waiting : b.value.done + b.value.failed + b.value.blocked
  return Math.round((100 * ended) / b.value.total)
})
const waits = ref(0)
const start = (despite: boolean) =>
  work('start', async () => {
    const started = await data(api.POST('/api/v1/batches/{id}/start', { ...path, body: { despite_failures: despite } }))
    waits.value = started.waits_for_approval ?? 0
    batch.value = started
  })
const stop = () =>
  work('stop', async () => {
    batch.value = await data(api.POST('/api/v1/batches/{id}/stop', path))
  })
const retry = () =>
  work('retry', async () => {
    batch.value = await data(api.POST('/api/v1/batches/{id}/retry', path))
  })
const canStart = computed(() => !!b.value && ['rehearsed', 'stopped'].includes(b.value.state) && b.value.ready > 0 && b.value.waiting === 0)
/** Why one person is not enough, while that is still to be done. */
const second = computed(() => {
  if (!b.value?.second || !['rehearsed', 'stopped'].includes(b.value.state)) return ''
  return t(b.value.given ? 'batches.secondGiven' : 'batches.second', { n: b.value.second, all: b.value.total, who: b.value.requested_by })
})
const canRetry = computed(
  () => !!b.value && ['rehearsed', 'stopped', 'done'].includes(b.value.state) && b.value.failed + b.value.blocked + b.value.waiting > 0,
)
</script>

<template>
  <template v-if="b">
    <PageHead :title="t('places.batches')">
      <template #title
        >{{ t('batches.number', { n: id }) }} <StateTag :state="t(`batches.state.${b.state}`)" :as="batchTone(b)"
      /></template>
      <template #lead
        >{{ t('batches.askedBy', { who: b.requested_by, chosen: b.chosen, reason: b.reason }) }} <When :at="b.created" />.</template
      >
      <Button v-if="mayReport" :href="`/api/v1/batches/${id}/report.html`" target="_blank">{{ t('run.report') }}</Button>
      <template v-if="session.may('operator')">
        <Popconfirm
          v-if="canStart"
          :title="t('batches.startAsk', { n: b.ready, all: b.total })"
          :ok-text="t('batches.start')"
          :cancel-text="t('do.notNow')"
          @confirm="start(b.blocked > 0)"
          ><Button type="primary" :loading="busy === 'start'">{{
            b.blocked ? t('batches.startOthers') : t('batches.start')
          }}</Button></Popconfirm
        >
        <Button v-if="canRetry" :loading="busy === 'retry'" @click="retry">{{ t('batches.retry') }}</Button>
        <Button v-if="b.state === 'rehearsing' || b.state === 'running'" :loading="busy === 'stop'" @click="stop">{{
          t('do.stop')
        }}</Button>
      </template>
    </PageHead>
    <p class="sentence" role="status">
      {{ t('batches.sum', { all: b.total, ready: b.ready, blocked: b.blocked, rotating: b.rotating, done: b.done, failed: b.failed }) }}
    </p>
    <Progress
      :percent="share"
      :show-info="false"
      size="small"
      :status="b.failed + b.blocked ? 'exception' : undefined"
      :aria-label="t('batches.progress')"
    />
    <Trouble :words="trouble" />
    <p v-if="b.consent" class="soft">{{ b.consent }}</p>
    <Alert v-else-if="second" :type="waits ? 'warning' : 'info'" show-icon class="alert" role="status" :message="second">
      <template v-if="waits" #description
        ><RouterLink to="/approvals?f=state=asked">{{ t('rotate.waits', { n: waits }) }}</RouterLink></template
      >
    </Alert>
    <ListPage name="batch-items" :label="t('batches.items')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('lists.nothing')">
      <template #credential="{ row }"
        ><RouterLink :to="row.account_id ? `/accounts/${row.account_id}` : `/credentials/${row.credential_id}`">{{
          row.credential
        }}</RouterLink></template
      >
      <template #system="{ row }"><SystemLink v-if="row.system" :name="row.system" /></template>
      <template #state="{ row }"><StateTag :state="t(`batches.item.${row.state}`)" :as="itemTone(row)" /></template>
      <template #words="{ row }"
        ><RouterLink v-if="row.rotation_id" :to="`/rotations/${row.rotation_id}`">{{ row.words }}</RouterLink
        ><span v-else :title="row.words">{{ row.words }}</span></template
      >
      <template #behind="{ row }"
        ><span :title="row.behind.join(', ')">{{ row.behind.join(', ') }}</span></template
      >
    </ListPage>
  </template>
  <Trouble v-else :words="trouble" retry @again="load" />
</template>

<style scoped>
.sentence {
  margin: 4px 0;
}
</style>
