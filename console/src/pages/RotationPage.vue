<script setup lang="ts">
import { Button, Progress, Segmented, Tabs, TabPane } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import JournalTable from '../components/JournalTable.vue'
import LookAgain from '../components/LookAgain.vue'
import PageHead from '../components/PageHead.vue'
import RunActs from '../components/RunActs.vue'
import StateTag from '../components/StateTag.vue'
import StoodStill from '../components/StoodStill.vue'
import StepList from '../components/StepList.vue'
import Trouble from '../components/Trouble.vue'
import WaveTable from '../components/WaveTable.vue'
import { progress } from '../components/waves'
import When from '../components/When.vue'
import { lasting, never } from '../components/words'
import { timeline } from '../pictures/run'
import { palette } from '../state/appearance'
import { useJournal } from '../state/journal'
import { personal } from '../state/personal'
import { useSession } from '../state/session'
import { t } from '../texts'

const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
const session = useSession()
const mayReport = ['auditor', 'administrator', 'operator'].some((role) => session.may(role))
const route = useRoute()
const router = useRouter()
const id = Number(route.params.id)
const now = ref<Schemas['RotationNow']>()
const trouble = ref('')
async function load(): Promise<void> {
  try {
    now.value = await data(api.GET('/api/v1/rotations/{id}', { params: { path: { id } } }))
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const r = computed(() => now.value?.rotation)
const goesOn = computed(() => r.value?.mode === 'running' || r.value?.mode === 'undoing')
const journal = useJournal(id, goesOn)
const p = computed(() => progress(now.value?.steps ?? []))
const share = computed(() => (p.value.all ? Math.round((100 * p.value.done) / p.value.all) : 0))

/** Where it is, in one sentence. */
const sentence = computed(() => {
  if (!r.value || !now.value) return ''
  const { done, all, doing, wrong, waiting } = p.value
  const count = t('run.count', { done, all })
  if (r.value.mode === 'undoing') return t('run.undoing', { what: doing?.title ?? '', count })
  if (r.value.mode === 'stopped')
    return wrong ? t('run.stoppedAt', { what: wrong.title, words: wrong.words ?? '' }) : t('run.stopped', { count })
  if (r.value.mode === 'finished')
    return t('run.finished', { count, time: never(r.value.ended) ? '' : lasting(Date.parse(r.value.ended!) - Date.parse(r.value.started)) })
  if (waiting.length && !doing) return t('run.waitsFor', { what: waiting[0]!.system || waiting[0]!.subject, count })
  return doing ? t('run.doing', { what: doing.title, count }) : count
})
const chosen = ref<number>()
const view = personal<'waves' | 'steps'>('run-view', 'waves')
const views = [
  { value: 'waves', label: t('run.asWaves') },
  { value: 'steps', label: t('run.asList') },
]
const tab = computed({
  get: () => String(route.query.tab ?? 'log'),
  set: (to) => void router.replace({ query: { ...route.query, tab: to } }),
})
const drawing = computed(() =>
  now.value && journal.value.length
    ? timeline(now.value.steps, journal.value, palette.value, goesOn.value ? Date.now() : Date.parse(journal.value.at(-1)!.time))
    : undefined,
)
</script>

<template>
  <template v-if="r && now">
    <PageHead :title="t('places.rotations')">
      <template #title
        >{{ t(r.kind === 'assign' ? 'run.assignment' : 'run.rotation', { n: id }) }}
        <RouterLink :to="r.account_id ? `/accounts/${r.account_id}` : `/credentials/${r.credential_id}`">{{ r.credential }}</RouterLink>{{
          ' '
        }}
        <StateTag :state="r.result || r.mode" :as="r.result || `mode-${r.mode}`"
      /></template>
      <template #lead
        >{{ t('run.startedBy', { name: r.requested_by, reason: r.reason }) }} <When :at="r.started" />.
        {{ t('run.onFailure', { what: t(`rotate.onFailure.${r.on_failure}`) }) }}
        <template v-if="r.override">{{ t('run.override', { words: r.override }) }}</template>
        <template v-if="r.consent">{{ t('run.consent', { words: r.consent }) }}</template></template
      >
      <Button v-if="mayReport" :href="`/api/v1/rotations/${id}/report.html`" target="_blank">{{ t('run.report') }}</Button>
      <Segmented v-model:value="view" :options="views" :aria-label="t('run.view')" />
    </PageHead>
    <p class="sentence" role="status">{{ sentence }}</p>
    <Progress
      :percent="share"
      :show-info="false"
      :status="p.wrong ? 'exception' : undefined"
      size="small"
      :aria-label="t('run.count', { done: p.done, all: p.all })"
    />
    <p v-if="now.proven" class="soft">{{ t('run.proven', { words: now.proven }) }}</p>
    <p v-if="now.undo_until" class="soft">{{ t('run.undoUntil') }} <When :at="now.undo_until" />.</p>
    <Trouble :words="trouble" />
    <RunActs v-if="session.may('operator') && now.decisions.length" :now="now" @decided="(v) => (now = v)" />
    <Trouble :words="now.halted" />
    <p v-if="now.waits_for && r.mode === 'running'" role="status">
      {{ t('run.waitsForWindow', { name: now.waits_for }) }} <When :at="now.waits_till ?? ''" />.
    </p>
    <LookAgain v-if="now.look" :id="id" :look="now.look" @changed="load" />
    <section class="panel">
      <WaveTable v-if="view === 'waves'" v-model:chosen="chosen" :steps="now.steps" />
      <StepList v-else :steps="now.steps" />
      <StepList
        v-if="view === 'waves' && (chosen !== undefined || p.wrong)"
        :steps="now.steps.filter((s) => s.index === (chosen ?? p.wrong?.index))"
      />
    </section>
    <Tabs v-model:active-key="tab" class="below">
      <TabPane key="log" :tab="t('run.journal')"
        ><JournalTable :journal="journal" :step="chosen" :begun="p.done > 0" @all="chosen = undefined"
      /></TabPane>
      <TabPane v-if="now.interruptions.length" key="still" :tab="t('run.interruptions')"><StoodStill :list="now.interruptions" /></TabPane>
      <TabPane key="time" :tab="t('run.overTime')"
        ><Picture
          v-if="tab === 'time'"
          :question="t('run.question')"
          :drawing="drawing"
          :empty="t('run.nothingYet')"
          :columns="[t('run.act'), t('fields.system'), t('fields.took')]"
      /></TabPane>
    </Tabs>
  </template>
  <Trouble v-else :words="trouble" retry @again="load" />
</template>

<style scoped>
.sentence {
  font-size: 16px;
  margin: 4px 0;
  overflow-wrap: anywhere;
}
.below {
  margin-top: 10px;
}
</style>
