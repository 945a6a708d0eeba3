<script setup lang="ts">
import { Button, Drawer, Popconfirm } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StageTable from '../components/StageTable.vue'
import StateTag from '../components/StateTag.vue'
import SystemFacts from '../components/SystemFacts.vue'
import SystemLink from '../components/SystemLink.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type System = Schemas['System']
const columns: Column[] = [
  { key: 'name', title: t('systems.name'), field: 'name', content: 'system' },
  { key: 'kind', title: t('fields.kind'), field: 'kind', content: 'word' },
  { key: 'address', title: t('systems.address'), field: 'address', content: 'system' },
  { key: 'site', title: t('systems.site'), field: 'site', content: 'word' },
  { key: 'environment', title: t('systems.environment'), field: 'environment', content: 'word' },
  { key: 'owner', title: t('fields.owner'), field: 'owner', content: 'word', optional: true },
  { key: 'steward', title: t('systems.steward'), content: 'word', optional: true },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state' },
  { key: 'read', title: t('systems.readCompletely'), field: 'read_completely', content: 'time', compares: 'time' },
  { key: 'words', title: t('systems.wrong'), field: 'state_words', content: 'text' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/systems', { params: { query } }))
const key = (s: System) => s.id
const AddSystem = defineAsyncComponent(() => import('../components/AddSystem.vue'))
const ImportSystems = defineAsyncComponent(() => import('../components/ImportSystems.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const table = ref<{ reload: () => void }>()
const adding = computed({
  get: () => (route.query.do === 'add' || route.query.do === 'import' ? route.query.do : ''),
  set: (to) => void router.replace({ query: { ...route.query, do: to || undefined } }),
})
const mayChange = computed(() => session.may('operator') || session.may('administrator'))

const chosen = ref(new Map<string | number, System>())
const busy = ref('')
const said = ref('')
const trouble = ref('')
/** Does one thing to each that is chosen; what fails is told, and stops no other. */
async function each(what: string, act: (s: System) => Promise<string>): Promise<void> {
  busy.value = what
  trouble.value = ''
  const failed: string[] = []
  let done = 0
  for (const s of chosen.value.values()) {
    said.value = t('systems.working', { name: s.name, done, all: chosen.value.size })
    const wrong = await act(s).catch((e: unknown) => (e instanceof Error ? e.message : String(e)))
    if (wrong) failed.push(`${s.name}: ${wrong}`)
    else done++
  }
  said.value = t('systems.worked', { done, all: chosen.value.size })
  trouble.value = failed.join('; ')
  busy.value = ''
  table.value?.reload()
}
const check = () =>
  each('check', async (s) => {
    const a = await data(api.POST('/api/v1/systems/{name}/check', { params: { path: { name: s.name } } }))
    return a.ok ? '' : (a.system.state_words ?? a.system.state)
  })
async function survey(): Promise<void> {
  try {
    const started = await data(api.POST('/api/v1/surveys', { body: { systems: [...chosen.value.values()].map((s) => s.name) } }))
    await router.push(`/surveys/${started.id}`)
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
</script>

<template>
  <PageHead :title="t('places.systems')" :lead="t('systems.lead')">
    <template v-if="mayChange">
      <Button type="primary" @click="adding = 'add'">{{ t('systems.add') }}</Button>
      <Button @click="adding = 'import'">{{ t('systems.import') }}</Button>
    </template>
  </PageHead>
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble :words="trouble" />
  <ListPage
    ref="table"
    v-model:chosen="chosen"
    name="systems"
    :label="t('places.systems')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('systems.empty')"
    :selectable="mayChange ? () => true : undefined"
  >
    <template #bulk>
      <Button size="small" :loading="busy === 'check'" @click="check">{{ t('systems.check') }}</Button>
      <Popconfirm
        v-if="session.may('operator')"
        :title="t('systems.surveyAsk', chosen.size)"
        :ok-text="t('systems.surveyThese')"
        :cancel-text="t('do.notNow')"
        @confirm="survey"
      >
        <Button size="small" :disabled="busy !== ''">{{ t('systems.surveyThese') }}</Button>
      </Popconfirm>
    </template>
    <template v-if="mayChange" #none
      ><Button type="primary" @click="adding = 'add'">{{ t('systems.add') }}</Button></template
    >
    <template #name="{ row }"
      ><RouterLink :to="`/systems/${encodeURIComponent(row.name)}`" :title="row.name">{{ row.name }}</RouterLink></template
    >
    <template #address="{ row }"
      ><span class="mono" :title="row.address">{{ row.address }}{{ row.port ? ':' + row.port : '' }}</span></template
    >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #read="{ row }"
      ><When v-if="row.read_completely" :at="row.read_completely" /><span v-else class="soft">{{ t('words.never') }}</span></template
    >
    <template #words="{ row }"
      ><span class="soft" :title="row.state_words">{{ row.state_words }}</span></template
    >
    <template #beside="{ row }">
      <h2><SystemLink :name="row.name" /> <StateTag :state="row.state" /></h2>
      <p v-if="row.state_words" class="break">{{ row.state_words }}</p>
      <SystemFacts :system="row" />
      <h2>{{ t('systems.attempt') }}</h2>
      <StageTable :stages="row.stages" />
    </template>
  </ListPage>
  <Drawer
    :open="adding !== ''"
    :width="640"
    :title="adding === 'import' ? t('systems.import') : t('systems.add')"
    destroy-on-close
    @close="adding = ''"
  >
    <AddSystem v-if="adding === 'add'" @done="table?.reload()" />
    <ImportSystems v-if="adding === 'import'" @done="table?.reload()" />
  </Drawer>
</template>
