<script setup lang="ts">
import { Alert, Button, CheckboxGroup, Empty, Spin, Switch } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import { manyThings, summary } from '../components/picture'
import PlainTable from '../components/PlainTable.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import { t } from '../texts'

const RadiusGraph = defineAsyncComponent(() => import('../components/RadiusGraph.vue'))
const id = Number(useRoute().params.id)
const radius = ref<Schemas['Radius']>()
const account = ref<Schemas['Account']>()
const trouble = ref('')
const busy = ref(false)
const kinds = ['configured', 'held', 'observed', 'declared'] as const
const wanted = ref<(typeof kinds)[number][]>([...kinds])
const mentions = ref(false)
const open = ref(new Set<string>())
const chosen = ref('')
const picture = ref<{ fit: () => void; keep: (name: string) => void }>()
let touched = false

async function load(): Promise<void> {
  busy.value = true
  try {
    account.value ??= (await data(api.GET('/api/v1/accounts/{id}', { params: { path: { id } } }))).account
    const query = { evidence: wanted.value.length ? wanted.value : (['declared'] as typeof wanted.value), mentions: mentions.value }
    radius.value = await data(api.GET('/api/v1/accounts/{id}/radius', { params: { path: { id }, query } }))
    if (!touched) open.value = new Set(radius.value.graph.nodes.length > manyThings ? [] : radius.value.summary.systems)
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
void load()
onChanged(() => void load())
watch([wanted, mentions], () => void load(), { deep: true })

const nodes = computed(() => radius.value?.graph.nodes ?? [])
const edges = computed(() => radius.value?.graph.edges ?? [])
const systems = computed(() =>
  (radius.value?.summary.systems ?? []).map((name) => ({ name, list: nodes.value.filter((n) => n.hop > 0 && n.system === name) })),
)
const node = computed(() => nodes.value.find((n) => n.id === chosen.value))
const reasons = computed(() =>
  edges.value.filter((e) => e.to === chosen.value).map((e) => ({ ...e, by: nodes.value.find((n) => n.id === e.from)?.name ?? '' })),
)
const reached = (nodeID: string) => edges.value.filter((e) => e.to === nodeID)

function toggle(system: string): void {
  touched = true
  const next = new Set(open.value)
  if (!next.delete(system)) next.add(system)
  open.value = next
}
function all(show: boolean): void {
  touched = true
  open.value = new Set(show ? radius.value?.summary.systems : [])
}
const rows = computed(() => nodes.value.filter((n) => n.hop > 0))
const columns = [
  { key: 'name', title: t('fields.name'), content: 'place' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'of', title: t('radius.what'), width: 90 },
  { key: 'state', title: t('fields.state'), content: 'state' as const },
  { key: 'hop', title: t('radius.steps'), content: 'number' as const },
  { key: 'why', title: t('radius.how'), content: 'text' as const },
]
</script>

<template>
  <PageHead :title="t('radius.title')">
    <template #title
      >{{ t('radius.title') }}{{ ' '
      }}<span v-if="account" class="soft"
        >{{ t('radius.if') }} <RouterLink :to="`/accounts/${id}`">{{ account.name }}</RouterLink> {{ t('words.on') }} {{ account.system }}
        {{ t('radius.changed') }}</span
      ></template
    >
    <Button size="small" @click="all(true)">{{ t('radius.openAll') }}</Button>
    <Button size="small" @click="all(false)">{{ t('radius.closeAll') }}</Button>
    <Button size="small" @click="picture?.fit()">{{ t('radius.whole') }}</Button>
    <Button size="small" @click="picture?.keep(account?.name ?? 'radius')">{{ t('radius.keep') }}</Button>
  </PageHead>
  <Trouble :words="trouble" retry @again="load" />
  <div class="row filters">
    <span class="soft">{{ t('radius.known') }}</span>
    <CheckboxGroup v-model:value="wanted" :options="[...kinds]" />
    <label class="row"><Switch v-model:checked="mentions" size="small" /> {{ t('radius.mentions') }}</label>
  </div>
  <template v-if="radius">
    <p>
      <b>{{ t('n.dependents', radius.summary.direct) }}</b>
      {{ t('radius.further', { n: radius.summary.further, systems: t('n.systems', radius.summary.systems.length) }) }}
      <StateTag v-if="radius.summary.down.length" :state="t('radius.down', radius.summary.down.length)" as="down" />
      <span class="soft">{{ t('radius.complete', { words: radius.words }) }}</span>
    </p>
    <Alert v-if="radius.graph.more" type="warning" show-icon :message="t('radius.more')" />
    <div v-if="nodes.length > 1" class="both">
      <RadiusGraph ref="picture" :nodes="nodes" :edges="edges" :open="open" :chosen="chosen" @choose="chosen = $event" @system="toggle" />
      <aside class="panel" aria-live="polite">
        <template v-if="node && node.hop > 0">
          <b class="break"
            >{{ node.of }} <RouterLink v-if="node.dependent" :to="`/dependents/${node.dependent}`">{{ node.name }}</RouterLink><template
              v-else
              >{{ node.name }}</template
            ></b
          >
          <div class="soft">{{ t('words.on') }} {{ node.system }} <StateTag v-if="node.state" :state="node.state" /></div>
          <div v-for="r in reasons" :key="r.from + r.why" class="reason">
            <StateTag :state="r.strength ? `${r.why}: ${r.strength}` : r.why" :as="r.strength" />
            <span class="soft break">{{ r.detail || t('radius.of', { name: r.by }) }}</span>
          </div>
          <Button size="small" @click="chosen = ''">{{ t('radius.back') }}</Button>
        </template>
        <template v-else>
          <b>{{ t('places.systems') }}</b>
          <div v-for="s in systems" :key="s.name" class="reason">
            <Button type="link" size="small" class="system" :aria-expanded="open.has(s.name)" @click="toggle(s.name)"
              >{{ open.has(s.name) ? '−' : '+' }} {{ s.name }}</Button
            >
            <span class="soft">{{ summary(s.list) }}</span>
          </div>
          <p class="soft">{{ t('radius.click') }}</p>
        </template>
      </aside>
    </div>
    <Empty v-else :image="Empty.PRESENTED_IMAGE_SIMPLE"
      ><template #description
        ><span class="soft">{{ t('radius.none', { words: radius.words }) }}</span></template
      ></Empty
    >
    <h2>{{ t('radius.list') }}</h2>
    <section class="panel">
      <PlainTable
        :label="t('radius.list')"
        :columns="columns"
        :rows="rows"
        :row-key="(n) => n.id"
        :size="100"
        :empty="t('dependents.none')"
      >
        <template #name="{ row }"
          ><RouterLink v-if="row.dependent" :to="`/dependents/${row.dependent}`">{{ row.name }}</RouterLink
          ><template v-else>{{ row.name }}</template></template
        >
        <template #state="{ row }"><StateTag :state="row.state ?? ''" /></template>
        <template #why="{ row }"
          ><div v-for="e in reached(row.id)" :key="e.from + e.why">
            <StateTag :state="e.strength ? `${e.why}: ${e.strength}` : e.why" :as="e.strength" /></div
        ></template>
      </PlainTable>
    </section>
  </template>
  <Spin v-else-if="busy" />
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 290px;
  gap: 12px;
}
.filters {
  margin: 6px 0;
  gap: 14px;
}
.reason {
  margin: 6px 0;
}
.system {
  padding: 0 4px 0 0;
}
aside {
  max-height: 520px;
  overflow-y: auto;
}
@media (max-width: 1000px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
