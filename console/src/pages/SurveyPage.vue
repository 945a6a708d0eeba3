<script setup lang="ts">
import { Button, Popconfirm, Progress, Segmented } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import { lasting, never } from '../components/words'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { stages } from '../pictures/run'
import { palette, series } from '../state/appearance'
import { useSession } from '../state/session'
import { t } from '../texts'

type Visit = Schemas['Visit']
const StageTable = defineAsyncComponent(() => import('../components/StageTable.vue'))
const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const id = Number(route.params.id)
const survey = ref<Schemas['Survey']>()
const slow = ref<Visit[]>([])
const failed = ref('')
const { busy, trouble, work } = useWork()
const columns: Column[] = [
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state' },
  { key: 'added', title: t('surveys.added'), field: 'added', content: 'number', compares: 'number' },
  { key: 'altered', title: t('surveys.altered'), field: 'altered', content: 'number', compares: 'number' },
  { key: 'vanished', title: t('surveys.vanished'), field: 'vanished', content: 'number', compares: 'number' },
  { key: 'took', title: t('fields.took'), content: 'time' },
  { key: 'words', title: t('surveys.happened'), field: 'words', content: 'text' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/surveys/{id}/visits', { params: { path: { id }, query } }))
const key = (v: Visit) => v.id
const tab = computed({
  get: () => String(route.query.tab ?? 'visits'),
  set: (to) => void router.replace({ query: { ...route.query, tab: to } }),
})

async function load(): Promise<void> {
  try {
    survey.value = await data(api.GET('/api/v1/surveys/{id}', { params: { path: { id } } }))
    if (tab.value === 'stages') slow.value = (await fetch({ limit: 1000 })).items
    failed.value = ''
  } catch (e) {
    failed.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())
const views = [
  { value: 'visits', label: t('surveys.visits') },
  { value: 'stages', label: t('surveys.byStage') },
]
function show(to: unknown): void {
  tab.value = String(to)
  if (to === 'stages') void fetch({ limit: 1000 }).then((page) => (slow.value = page.items))
}
const cancel = () => work('cancel', () => data(api.POST('/api/v1/surveys/{id}/cancel', { params: { path: { id } } })))

const share = computed(() => (survey.value?.total ? Math.round((100 * survey.value.done) / survey.value.total) : 0))
const left = computed(() => {
  const s = survey.value
  if (!s || s.state !== 'running' || !s.done) return ''
  return t('surveys.left', { time: lasting(((Date.now() - Date.parse(s.started)) / s.done) * (s.total - s.done)) })
})
const took = (v: Visit) => (!v.started || never(v.ended) ? '' : lasting(Date.parse(v.ended!) - Date.parse(v.started)))
const drawing = computed(() => (slow.value.length ? stages(slow.value, palette.value, series.value) : undefined))
</script>

<template>
  <PageHead :title="t('surveys.one', { n: id })">
    <template #title>{{ t('surveys.one', { n: id }) }} <StateTag v-if="survey" :state="survey.state" /></template>
    <RouterLink :to="{ path: '/changes', query: { f: `survey_id=${id}` } }">{{ t('changes.ofSurvey') }}</RouterLink>
    <Popconfirm
      v-if="survey?.state === 'running' && session.may('operator')"
      :title="t('surveys.cancelAsk')"
      :ok-text="t('surveys.cancelYes')"
      :cancel-text="t('do.notNow')"
      placement="bottomRight"
      @confirm="cancel"
      ><Button :loading="busy === 'cancel'">{{ t('surveys.cancel') }}</Button></Popconfirm
    >
  </PageHead>
  <Trouble :words="failed" retry @again="load" />
  <Trouble :words="trouble" />
  <p v-if="survey" class="soft" role="status">
    {{
      t('surveys.counts', {
        done: survey.done,
        total: survey.total,
        failed: survey.failed,
        added: survey.added,
        altered: survey.altered,
        vanished: survey.vanished,
      })
    }}
    {{ t('surveys.begun', { name: survey.requested_by }) }} <When :at="survey.started" />. {{ left }}
  </p>
  <Progress v-if="survey?.state === 'running'" :percent="share" :aria-label="t('surveys.read')" />
  <Segmented :value="tab" :options="views" class="views" :aria-label="t('run.view')" @change="show" />
  <template v-if="tab === 'visits'">
    <ListPage name="visits" :label="t('surveys.visits')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('surveys.noSystems')">
      <template #system="{ row }"><SystemLink :name="row.system" /></template>
      <template #state="{ row }"><StateTag :state="row.state" /></template>
      <template #took="{ row }">{{ took(row) }}</template>
      <template #words="{ row }"
        ><span :title="row.words"
          ><b v-if="row.words">{{ row.stage }}</b> {{ row.words }}
          <span v-if="row.problems.length" class="soft">{{ t('surveys.unread', row.problems.length) }}</span></span
        ></template
      >
      <template #beside="{ row }">
        <h2><SystemLink :name="row.system" /> <StateTag :state="row.state" /></h2>
        <p v-if="row.words" class="break">
          <b>{{ row.stage }}</b> {{ row.words }}
        </p>
        <p v-if="row.next_step" class="soft">{{ row.next_step }}</p>
        <StageTable :stages="row.stages" />
        <template v-if="row.problems.length">
          <h2>{{ t('surveys.unread', row.problems.length) }}</h2>
          <div v-for="p in row.problems" :key="p.place + p.what" class="break">
            <span class="mono">{{ p.place }}</span>: {{ p.what }}<span v-if="p.next" class="soft"> ({{ p.next }})</span>
          </div>
        </template>
      </template>
    </ListPage>
  </template>
  <Picture
    v-else
    :question="t('surveys.question')"
    :drawing="drawing"
    :empty="t('run.nothingYet')"
    :columns="[t('fields.system'), t('systems.stage'), t('fields.took')]"
  />
</template>

<style scoped>
.views {
  margin: 6px 0 10px;
}
</style>
