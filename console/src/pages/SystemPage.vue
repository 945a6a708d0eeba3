<script setup lang="ts">
import { Alert, Button, TypographyText } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import ChangeHistory from '../components/ChangeHistory.vue'
import FindingPanel from '../components/FindingPanel.vue'
import PageHead from '../components/PageHead.vue'
import StageTable from '../components/StageTable.vue'
import StateTag from '../components/StateTag.vue'
import SystemFacts from '../components/SystemFacts.vue'
import Trouble from '../components/Trouble.vue'
import { useWork } from '../components/work'
import { useSession } from '../state/session'
import { t } from '../texts'

const ImportUses = defineAsyncComponent(() => import('../components/ImportUses.vue'))
const SystemPreparation = defineAsyncComponent(() => import('../components/SystemPreparation.vue'))
const RemoveSystem = defineAsyncComponent(() => import('../components/RemoveSystem.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const name = String(route.params.name)
const system = ref<Schemas['System']>()
const findings = ref<Schemas['Finding'][]>([])
const { busy, trouble, work } = useWork()
const failed = ref('')

async function load(): Promise<void> {
  try {
    system.value = await data(api.GET('/api/v1/systems/{name}', { params: { path: { name } } }))
    findings.value = (
      await data(api.GET('/api/v1/findings', { params: { query: { filter: [`system=${system.value.name}`], limit: 20 } } }))
    ).items
    failed.value = ''
  } catch (e) {
    failed.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const act = (what: string, does: () => Promise<unknown>) =>
  work(what, async () => {
    await does()
    await load()
  })
const check = () => act('check', () => data(api.POST('/api/v1/systems/{name}/check', { params: { path: { name } } })))
const approve = (fingerprint: string) =>
  act('approve', () => data(api.POST('/api/v1/systems/{name}/host-key', { params: { path: { name } }, body: { fingerprint } })))
const survey = () =>
  work('survey', async () => {
    const started = await data(api.POST('/api/v1/surveys', { body: { systems: [name] } }))
    await router.push(`/surveys/${started.id}`)
  })

/** What would go with it, said before it is removed; the name is typed. */
const removal = ref<Schemas['Removal']>()
const askRemoval = () =>
  work('removal', async () => {
    removal.value = await data(api.GET('/api/v1/systems/{name}/removal', { params: { path: { name } } }))
  })
const remove = () =>
  work('remove', async () => {
    await data(api.DELETE('/api/v1/systems/{name}', { params: { path: { name } } }))
    await router.push('/systems')
  })

/** The key that a failed check saw and that is not approved yet. */
const offered = computed(() => {
  const stage = system.value?.stages.find((s) => !s.ok && (s.code === 'new-host-key' || s.code === 'untrusted'))
  return stage ? (/SHA256:[A-Za-z0-9+/]+/.exec(stage.detail ?? '')?.[0] ?? '') : ''
})
const uses = ref(false)
const preparing = ref(false)
const mayChange = computed(() => session.may('operator') || session.may('administrator'))
const links = computed(() =>
  ['accounts', 'dependents', 'connections', 'findings'].map((place) => ({
    to: { path: `/${place}`, query: { f: `system=${name}` } },
    text: t(`places.${place}`),
  })),
)
</script>

<template>
  <PageHead :title="name">
    <template #title>{{ name }} <StateTag v-if="system" :state="system.state" /></template>
    <Button v-if="mayChange" :loading="busy === 'check'" @click="check">{{ t('systems.checkIt') }}</Button>
    <Button v-if="session.may('operator')" type="primary" :loading="busy === 'survey'" @click="survey">{{ t('systems.surveyIt') }}</Button>
    <Button v-if="session.may('administrator')" :loading="busy === 'removal'" @click="askRemoval">{{ t('systems.remove') }}</Button>
  </PageHead>
  <Trouble :words="failed" retry @again="load" />
  <Trouble :words="trouble" />
  <template v-if="system">
    <Alert v-if="system.waits_for_approval" type="warning" show-icon class="alert" :message="t('systems.nothingSent')">
      <template #description
        >{{ t('systems.waitsApproval') }}
        <RouterLink to="/approvals?f=state=asked">{{ t('systems.approval', { n: system.waits_for_approval }) }}</RouterLink></template
      >
    </Alert>
    <Alert v-if="offered" type="warning" show-icon class="alert" :message="t('systems.keyWaits')">
      <template #description>
        <p>
          {{ t('systems.keyCompare') }} <TypographyText code>{{ 'ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub' }}</TypographyText>
        </p>
        <div class="row">
          <TypographyText code copyable class="break">{{ offered }}</TypographyText><Button
            v-if="session.may('approver')"
            type="primary"
            :loading="busy === 'approve'"
            @click="approve(offered)"
            >{{ t('systems.keySame') }}</Button
          >
        </div>
      </template>
    </Alert>
    <FindingPanel
      :findings="findings"
      :about="system.name"
      :most="3"
      :all="`/findings?f=${encodeURIComponent(`system=${name}`)}`"
      :more="t('account.allFindings', findings.length)"
    />
    <div class="two">
      <section>
        <h2>{{ t('account.what') }}</h2>
        <div class="panel"><SystemFacts :system="system" /></div>
        <p class="row">
          <RouterLink v-for="l in links" :key="l.text" :to="l.to">{{ l.text }}</RouterLink>
          <Button size="small" @click="preparing = true">{{ t('preparation.open') }}</Button>
          <Button v-if="system.kind === 'directory' && session.may('operator')" size="small" @click="uses = true">{{
            t('useImport.open')
          }}</Button>
        </p>
      </section>
      <section>
        <h2>{{ t('systems.attempt') }}</h2>
        <div class="panel"><StageTable :stages="system.stages" /></div>
      </section>
    </div>
    <ChangeHistory class="alert" of="system" :value="system.name" />
  </template>
  <ImportUses v-if="uses" :system="name" @close="uses = false" />
  <SystemPreparation v-if="preparing" :name="name" @close="preparing = false" />
  <RemoveSystem
    v-if="removal"
    :name="name"
    :removal="removal"
    :busy="busy === 'remove'"
    :trouble="trouble"
    @remove="remove"
    @close="removal = undefined"
  />
</template>

<style scoped>
.alert {
  margin: 8px 0;
}
</style>
