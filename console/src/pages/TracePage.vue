<script setup lang="ts">
import { Button, Progress } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { lasting } from '../components/words'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const TraceDraft = defineAsyncComponent(() => import('../components/TraceDraft.vue'))
/** What was sent to a system, as it comes; what was refused stands first. */
const id = Number(useRoute().params.id)
const session = useSession()
const of = ref<Schemas['Trace']>()
const { busy, trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    of.value = await data(api.GET('/api/v1/traces/{id}', { params: { path: { id } } }))
  })
void load()
onChanged(() => void load())
const stop = () =>
  work('stop', async () => {
    of.value = await data(api.POST('/api/v1/traces/{id}/stop', { params: { path: { id } } }))
  })
const drafted = ref<Schemas['CharterDraft']>()
const draft = () =>
  work('draft', async () => {
    drafted.value = await data(api.POST('/api/v1/charters/draft', { body: { name: 'drafted', traces: [id] } }))
  })
const share = computed(() => {
  const v = of.value
  return v?.operations ? Math.floor((100 * (v.operations - v.refused - v.failed)) / v.operations) : 0
})
const may = computed(() => !of.value?.ended && ['operator', 'administrator', 'auditor'].some((r) => session.may(r as 'operator')))
type Operation = Schemas['TracedOperation']
const columns: Column[] = [
  {
    key: 'outcome',
    title: t('traces.outcome'),
    field: 'outcome',
    content: 'state',
    compares: 'words',
    values: ['done', 'refused', 'failed'],
  },
  { key: 'text', title: t('traces.text'), field: 'text', content: 'place', width: 380 },
  { key: 'words', title: t('traces.words'), field: 'words', content: 'text' },
  { key: 'exit', title: t('traces.code'), field: 'exit', content: 'number', compares: 'number', width: 76 },
  { key: 'microseconds', title: t('traces.took'), field: 'microseconds', content: 'number', compares: 'number', width: 96 },
  { key: 'protocol', title: t('traces.protocol'), field: 'protocol', content: 'word', width: 110, optional: true },
  { key: 'at', title: t('probes.at'), field: 'at', content: 'time', compares: 'time', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/traces/{id}/operations', { params: { path: { id }, query } }))
const key = (o: Operation) => o.id
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="of">
    <PageHead :title="t('traces.title', { id: of.id, system: of.system })" :lead="of.reason">
      <Button v-if="session.may('operator') || session.may('administrator')" :loading="busy === 'draft'" @click="draft">{{
        t('traces.draft')
      }}</Button>
      <Button v-if="may" :loading="busy === 'stop'" @click="stop">{{ t('traces.stop') }}</Button>
    </PageHead>
    <p class="row">
      <StateTag :state="of.ended ? t('traces.over') : t('traces.running')" :as="of.ended ? 'plain' : 'active'" />
      <SystemLink :name="of.system" /> <span v-if="of.account">{{ t('traces.only', { name: of.account }) }}</span>
      <span>{{ of.ended ? t('traces.overAt', { by: of.ended_by }) : t('traces.endsAt') }} <When :at="of.ended || of.ends" /></span>
    </p>
    <TraceDraft v-if="drafted" :draft="drafted" @close="drafted = undefined" />
    <section class="panel share">
      <h2>{{ t('traces.share') }}</h2>
      <template v-if="of.operations">
        <Progress :percent="share" :aria-label="t('traces.share')" />
        <p>
          {{ t('traces.sums', { all: of.operations, refused: of.refused, failed: of.failed }) }}
          <span v-if="of.lost" class="soft">{{ t('traces.lost', { n: of.lost }) }}</span>
        </p>
      </template>
      <p v-else class="soft">{{ t('traces.nothing') }}</p>
    </section>
    <ListPage name="operations" :label="t('traces.sent')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('traces.nothing')">
      <template #outcome="{ row }"><StateTag :state="row.outcome" /></template>
      <template #text="{ row }"
        ><span class="mono">{{ row.text }}</span></template
      >
      <template #microseconds="{ row }">{{ lasting(row.microseconds / 1000) }}</template>
      <template #at="{ row }"><When :at="row.at" /></template>
      <template #expanded="{ row }">
        <pre class="mono whole" tabindex="0">{{ row.text }}</pre>
        <p v-if="row.words">{{ row.words }}</p></template
      >
    </ListPage>
  </template>
</template>

<style scoped>
.share {
  margin-bottom: 16px;
}
.share h2 {
  margin-top: 0;
}
.whole {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
