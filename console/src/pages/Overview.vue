<script setup lang="ts">
import { Alert, Button, Progress, Spin, Statistic } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import PlainTable from '../components/PlainTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import { useWork } from '../components/work'
import When from '../components/When.vue'
import * as draw from '../pictures/overview'
import { palette } from '../state/appearance'
import { useAround } from '../state/around'
import { useSession } from '../state/session'
import { t } from '../texts'

const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
const session = useSession()
const { seen: looked, begin } = useAround()
const router = useRouter()
const counts = ref<Schemas['Overview']>()
const pictures = ref<Schemas['Pictures']>()
const findings = ref<Schemas['Finding'][]>([])
const rotations = ref<Schemas['Rotation'][]>([])
const waiting = ref(0)
const failed = ref('')
const { busy, trouble, work } = useWork()
let drawn = 0

async function load(): Promise<void> {
  try {
    const [c, f, r, a] = await Promise.all([
      data(api.GET('/api/v1/overview')),
      data(api.GET('/api/v1/findings', { params: { query: { limit: 8 } } })),
      data(api.GET('/api/v1/rotations', { params: { query: { limit: 6 } } })),
      data(api.GET('/api/v1/approvals', { params: { query: { filter: ['state=asked'], limit: 1 } } })),
    ])
    counts.value = c
    findings.value = f.items
    rotations.value = r.items
    waiting.value = a.total
    failed.value = ''
    // The drawings count everything: now and then is enough.
    if (c.systems && Date.now() - drawn > 20_000) {
      drawn = Date.now()
      pictures.value = await data(api.GET('/api/v1/overview/pictures'))
    }
  } catch (e) {
    failed.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const survey = () =>
  work('survey', async () => {
    const started = await data(api.POST('/api/v1/surveys', { body: {} }))
    await router.push(`/surveys/${started.id}`)
  })

const read = computed(() => counts.value?.system_states.ok ?? 0)
const share = computed(() => (counts.value?.systems ? Math.round((100 * read.value) / counts.value.systems) : 0))
const open = computed(() => Object.values(counts.value?.findings ?? {}).reduce((a, b) => a + b, 0))
const tiles = computed(() => {
  const c = counts.value
  if (!c) return []
  return [
    { to: '/systems', value: t('overview.of', { n: read.value, all: c.systems }), title: t('overview.read'), share: share.value },
    { to: '/accounts', value: c.accounts.toLocaleString('en'), title: t('overview.accounts', c.custody) },
    { to: '/dependents', value: c.dependents.toLocaleString('en'), title: t('overview.dependents', { n: c.tied.toLocaleString('en') }) },
    {
      to: '/findings',
      value: open.value.toLocaleString('en'),
      title: t('overview.findings', { n: open.value, high: c.findings.high ?? 0 }),
      bad: (c.findings.high ?? 0) > 0,
    },
    {
      to: { path: '/accounts', query: { f: ['never_expires=true', 'enabled=yes'] } },
      value: c.never_expires.toLocaleString('en'),
      title: t('overview.never', c.never_expires),
    },
  ]
})
const now = Date.now()
const drawings = computed(() => {
  const p = pictures.value
  if (!p) return undefined
  const c = palette.value
  return {
    coverage: draw.coverage(p, c),
    ends: draw.ends(p, c, now),
    ages: draw.ages(p, c, now),
    findings: draw.findings(p, c, now),
    rotations: draw.rotations(p, c, now),
  }
})
const findingColumns = [
  { key: 'severity', title: t('findings.severity'), width: 106 },
  { key: 'what', title: t('findings.what'), content: 'text' as const },
  { key: 'system', title: t('findings.where'), width: 120 },
]
const rotationColumns = [
  { key: 'credential', title: t('rotations.credential'), content: 'text' as const },
  { key: 'result', title: t('fields.result'), width: 140 },
  { key: 'started', title: t('fields.started'), width: 106 },
]
const path = (f: Schemas['Finding']) => (f.dependent_id ? `/dependents/${f.dependent_id}` : f.account_id ? `/accounts/${f.account_id}` : '')
</script>

<template>
  <PageHead :title="t('places.overview')"
    ><Button v-if="session.may('operator') && counts?.systems" type="primary" :loading="busy === 'survey'" @click="survey">{{
      t('surveys.all')
    }}</Button></PageHead
  >
  <Trouble :words="failed" retry @again="load" />
  <Trouble :words="trouble" />
  <section v-if="counts && !counts.systems" class="panel begin">
    <h2>{{ t('start.here') }}</h2>
    <p class="soft">{{ t('start.lead') }}</p>
    <Button type="primary" @click="router.push('/start')">{{ t('start.go') }}</Button>
  </section>
  <template v-else-if="counts">
    <Alert v-if="waiting && session.may('approver')" type="info" show-icon class="waits"
      ><template #message
        ><RouterLink to="/approvals?f=state=asked">{{ t('overview.waiting', waiting) }}</RouterLink></template
      ></Alert
    >
    <Alert v-if="!looked" type="info" class="waits" :message="t('around.offer')"
      ><template #action
        ><div class="row">
          <Button size="small" type="primary" @click="begin">{{ t('around.begin') }}</Button><Button
            size="small"
            type="text"
            @click="looked = true"
            >{{ t('around.later') }}</Button
          >
        </div></template
      ></Alert
    >
    <div class="tiles">
      <RouterLink v-for="tile in tiles" :key="tile.title" :to="tile.to" class="tile">
        <div class="panel">
          <Statistic :value="tile.value" :title="tile.title" :class="{ bad: tile.bad }" /><Progress
            v-if="tile.share !== undefined"
            :percent="tile.share"
            :show-info="false"
            size="small"
            :aria-label="tile.title"
          />
        </div>
      </RouterLink>
    </div>
    <div class="two">
      <section class="panel">
        <h2>{{ t('overview.needs') }}</h2>
        <PlainTable
          :label="t('places.findings')"
          :columns="findingColumns"
          :rows="findings"
          :row-key="(f) => f.id"
          :empty="t('findings.empty')"
        >
          <template #severity="{ row }"><StateTag :state="row.severity" /></template>
          <template #what="{ row }">
            <div>
              <RouterLink v-if="path(row)" :to="path(row)">{{ row.subject }}</RouterLink><b v-else>{{ row.subject }}</b>
            </div>
            <div class="soft two-lines" :title="row.what">{{ row.what }}</div></template
          >
        </PlainTable>
        <RouterLink v-if="open > findings.length" to="/findings">{{ t('overview.allFindings', open) }}</RouterLink>
      </section>
      <div class="stack">
        <section class="panel">
          <h2>{{ t('overview.recent') }}</h2>
          <PlainTable
            :label="t('overview.recent')"
            :columns="rotationColumns"
            :rows="rotations"
            :row-key="(r) => r.id"
            :empty="t('rotations.empty')"
          >
            <template #credential="{ row }"
              ><RouterLink :to="`/rotations/${row.id}`">{{ row.credential }}</RouterLink>
              <span class="soft">{{ row.authority }}</span></template
            >
            <template #result="{ row }"><StateTag :state="row.result || row.mode" :as="row.result || `mode-${row.mode}`" /></template>
            <template #started="{ row }"><When :at="row.started" /></template>
          </PlainTable>
        </section>
        <Picture v-if="drawings" :question="t('pictures.coverageQuestion')" :drawing="drawings.coverage" :empty="t('pictures.nothing')" />
      </div>
    </div>
    <div v-if="drawings" class="two below">
      <Picture :question="t('pictures.endsQuestion')" :drawing="drawings.ends" :empty="t('pictures.nothing')" />
      <Picture :question="t('pictures.agesQuestion')" :drawing="drawings.ages" :empty="t('pictures.nothing')" />
      <Picture :question="t('pictures.findingsQuestion')" :drawing="drawings.findings" :empty="t('findings.empty')" />
      <Picture :question="t('pictures.rotationsQuestion')" :drawing="drawings.rotations" :empty="t('pictures.noRotations')" />
    </div>
  </template>
  <Spin v-else-if="!failed" class="loading" />
</template>

<style scoped>
.two-lines {
  display: -webkit-box;
  -webkit-line-clamp: 2;
  -webkit-box-orient: vertical;
  overflow: hidden;
}
.loading {
  display: block;
  margin: 80px auto;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(176px, 1fr));
  gap: 12px;
  margin: 8px 0 16px;
}
.tile .panel {
  height: 100%;
  box-sizing: border-box;
}
.tile:hover .panel {
  border-color: var(--moss);
}
.tile :deep(.ant-statistic) {
  display: flex;
  flex-direction: column-reverse;
}
.tile :deep(.ant-statistic-title) {
  margin: 0;
}
.bad :deep(.ant-statistic-content) {
  color: var(--bad);
}
.waits,
.begin {
  margin-bottom: 12px;
}
.below {
  margin-top: 16px;
}
.stack {
  display: grid;
  gap: 16px;
  align-content: start;
  min-width: 0;
}
h2 {
  margin-top: 0;
}
</style>
