<script setup lang="ts">
import { Alert, Button, Steps } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StewardForm from '../components/StewardForm.vue'
import Trouble from '../components/Trouble.vue'
import { useWork } from '../components/work'
import { t } from '../texts'

/** The way from an empty service to a first picture, one step after the other; each can be taken up again. */
const AddSystem = defineAsyncComponent(() => import('../components/AddSystem.vue'))
const HostKeys = defineAsyncComponent(() => import('../components/HostKeys.vue'))
const ImportSystems = defineAsyncComponent(() => import('../components/ImportSystems.vue'))
const route = useRoute()
const router = useRouter()
const counts = ref<Schemas['Overview']>()
const stewards = ref(0)
const kinds = ref<Record<string, number>>({})
const { busy, trouble, work } = useWork()
async function load(): Promise<void> {
  try {
    const [o, s, systems] = await Promise.all([
      data(api.GET('/api/v1/overview')),
      data(api.GET('/api/v1/stewards', { params: { query: { limit: 1 } } })),
      data(api.GET('/api/v1/systems', { params: { query: { limit: 500 } } })),
    ])
    counts.value = o
    stewards.value = s.total
    const by: Record<string, number> = {}
    for (const v of systems.items) by[v.kind] = (by[v.kind] ?? 0) + 1
    kinds.value = by
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const names = ['steward', 'directory', 'hosts', 'keys', 'survey'] as const
const hosts = computed(() => (kinds.value['unix-host'] ?? 0) + (kinds.value['windows-host'] ?? 0))
const done = computed(() => [
  stewards.value > 0,
  (counts.value?.systems ?? 0) > hosts.value,
  hosts.value > 0,
  hosts.value > 0 && !(counts.value?.system_states['host-key'] ?? 0) && (counts.value?.accounts ?? 0) > 0,
  (counts.value?.accounts ?? 0) > 0,
])
const at = computed({
  get: () => Math.max(0, names.indexOf(String(route.query.step ?? 'steward') as (typeof names)[number])),
  set: (n) => void router.replace({ query: { step: names[n] } }),
})
const items = computed(() =>
  names.map((name, i) => ({
    title: t(`start.${name}`),
    status: i === at.value ? ('process' as const) : done.value[i] ? ('finish' as const) : ('wait' as const),
  })),
)
const survey = () =>
  work('survey', async () => {
    const started = await data(api.POST('/api/v1/surveys', { body: {} }))
    await router.push(`/surveys/${started.id}`)
  })
</script>

<template>
  <PageHead :title="t('start.title')" :lead="t('start.lead')"
    ><Button @click="router.push('/')">{{ t('start.later') }}</Button></PageHead
  >
  <Trouble :words="trouble" />
  <Steps v-model:current="at" :items="items" size="small" class="steps" />
  <section class="panel step">
    <h2>{{ t(`start.${names[at]}`) }}</h2>
    <p class="lead">{{ t(`start.${names[at]}What`) }}</p>
    <Alert v-if="done[at]" type="success" show-icon class="done" :message="at === 0 ? t('start.stewards', stewards) : t('start.done')" />
    <StewardForm v-if="at === 0" @done="load" />
    <AddSystem v-else-if="at === 1" kind="directory" stay @done="load" />
    <ImportSystems v-else-if="at === 2" @done="load" />
    <HostKeys v-else-if="at === 3" @done="load" />
    <Button v-else type="primary" size="large" :loading="busy === 'survey'" :disabled="!counts?.systems" @click="survey">{{
      t('surveys.all')
    }}</Button>
  </section>
  <div class="row">
    <Button v-if="at" @click="at--">{{ t('start.previous') }}</Button>
    <Button v-if="at < names.length - 1" :type="done[at] ? 'primary' : 'default'" @click="at++">{{ t('start.next') }}</Button>
  </div>
</template>

<style scoped>
.steps {
  margin: 14px 0;
}
.step {
  max-width: 820px;
  margin-bottom: 12px;
}
.step h2 {
  margin-top: 0;
}
.done {
  margin-bottom: 14px;
}
</style>
