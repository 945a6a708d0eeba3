<script setup lang="ts">
import { Button, Tabs, TabPane } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref, shallowRef, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import AccountFacts from '../components/AccountFacts.vue'
import CredentialCustody from '../components/CredentialCustody.vue'
import FindingPanel from '../components/FindingPanel.vue'
import IncompleteSystems from '../components/IncompleteSystems.vue'
import SystemLink from '../components/SystemLink.vue'
import { chainsAround, startedOf, type Started } from '../components/order'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import TiedTable from '../components/TiedTable.vue'
import Trouble from '../components/Trouble.vue'
import { never } from '../components/words'
import { palette } from '../state/appearance'
import { useSession } from '../state/session'
import { t } from '../texts'

const ChangeHistory = defineAsyncComponent(() => import('../components/ChangeHistory.vue'))
const RotationHistory = defineAsyncComponent(() => import('../components/RotationHistory.vue'))
const RotatePanel = defineAsyncComponent(() => import('../components/RotatePanel.vue'))
const RightsTree = defineAsyncComponent(() => import('../components/RightsTree.vue'))
const StartOrder = defineAsyncComponent(() => import('../components/StartOrder.vue'))
const AccountEnds = defineAsyncComponent(() => import('../components/AccountEnds.vue'))
const UsesPanel = defineAsyncComponent(() => import('../components/UsesPanel.vue'))
const Picture = defineAsyncComponent(() => import('../pictures/Picture.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const id = Number(route.params.id)
const detail = ref<Schemas['AccountDetail']>()
const dependents = ref<Schemas['Dependent'][]>([])
const total = ref(0)
const history = ref<Schemas['Rotation'][]>([])
const findings = ref<Schemas['Finding'][]>([])
const uses = ref<Schemas['SeenUse'][]>([])
const trouble = ref('')
const tab = computed({
  get: () => String(route.query.tab ?? 'dependents'),
  set: (to) => void router.replace({ query: { ...route.query, tab: to } }),
})

async function load(): Promise<void> {
  try {
    const path = { id }
    const [d, page, rotations, found, seen] = await Promise.all([
      data(api.GET('/api/v1/accounts/{id}', { params: { path } })),
      data(api.GET('/api/v1/dependents', { params: { query: { account: id, limit: 200 } } })),
      data(api.GET('/api/v1/rotations', { params: { query: { filter: [`account_id=${id}`], limit: 20 } } })),
      data(api.GET('/api/v1/findings', { params: { query: { filter: [`account_id=${id}`], limit: 20 } } })),
      data(api.GET('/api/v1/accounts/{id}/uses', { params: { path } })),
    ])
    detail.value = d
    dependents.value = page.items
    total.value = page.total
    history.value = rotations.items
    findings.value = found.items
    uses.value = seen ?? []
    trouble.value = ''
    await order()
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

/** The start order on each system where services of the account stand in a chain. */
const chains = ref<{ system: string; services: Started[] }[]>([])
const mine = (d: Schemas['Dependent']) => d.ties.filter((tie) => tie.account_id === id)
async function order(): Promise<void> {
  const systems = [...new Set(dependents.value.filter((d) => d.kind === 'service').map((d) => d.system))].slice(0, 6)
  const all = await Promise.all(
    systems.map(async (system) => {
      const filter = [`system=${system}`, 'kind=service', 'gone=']
      const list = (await data(api.GET('/api/v1/dependents', { params: { query: { filter, limit: 500 } } }))).items
      const started = list.map((d) => startedOf(d, mine(d).length > 0))
      return { system, services: chainsAround(started, (s) => s.own) }
    }),
  )
  chains.value = all.filter((c) => c.services.some((s) => s.needs.length))
}
const latent = computed(() => findings.value.some((f) => ['latent-breakage', 'runs-on-old', 'down'].includes(f.kind)))
const kept = computed(() => detail.value?.password?.state === 'custody')
const mayRotate = computed(() => kept.value && session.may('operator'))
/** How the life of an account is drawn, once somebody looks at it. */
const life = shallowRef<typeof import('../pictures/life').life>()
watchEffect(async () => {
  if (tab.value === 'history' && !life.value) life.value = (await import('../pictures/life')).life
})
const drawing = computed(() =>
  detail.value && life.value
    ? life.value(detail.value.account, detail.value.password, history.value, findings.value, uses.value, palette.value, Date.now())
    : undefined,
)
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="detail">
    <PageHead :title="detail.account.name" :lead="detail.account.description">
      <template #title
        >{{ detail.account.name }} <span class="soft">{{ t('words.on') }}</span>{{ ' ' }}<SystemLink :name="detail.account.system" />
        <StateTag v-if="!never(detail.account.gone)" state="gone" /><StateTag v-if="detail.account.locked === 'yes'" state="locked"
      /></template>
      <Button @click="router.push(`/accounts/${id}/radius`)">{{ t('account.picture') }}</Button>
      <Button v-if="mayRotate" type="primary" @click="tab = 'rotate'">{{ t('account.rotate') }}</Button>
    </PageHead>
    <FindingPanel
      :findings="findings"
      :about="detail.account.name"
      :at="detail.account.system"
      :most="3"
      :all="`/findings?f=${encodeURIComponent(`account_id=${id}`)}`"
      :more="t('account.allFindings', findings.length)"
    />
    <div class="two">
      <section>
        <h2>{{ t('account.what') }}</h2>
        <div class="panel"><AccountFacts :account="detail.account" /></div>
      </section>
      <section>
        <h2>{{ t('fields.custody') }}</h2>
        <div class="panel">
          <RouterLink
            v-if="detail.account.type === 'service identity'"
            :to="`/credentials?f=name~${detail.account.name}&f=system=${detail.account.system}`"
            >{{ t('account.byKeys') }}</RouterLink
          >
          <CredentialCustody v-else :account="id" :credential="detail.password" @changed="load" />
        </div>
        <IncompleteSystems :systems="detail.incomplete" />
      </section>
    </div>
    <Tabs v-model:active-key="tab" class="tabs">
      <TabPane key="dependents" :tab="t('n.dependents', total)">
        <TiedTable :dependents="dependents" :account="id" :total="total" :name="detail.account.name" />
        <template v-for="c in chains" :key="c.system">
          <h2>{{ t('account.orderOn', { system: c.system }) }}</h2>
          <div class="panel"><StartOrder :services="c.services" :label="t('account.orderLabel', { system: c.system })" /></div>
        </template>
      </TabPane>
      <TabPane key="uses" :tab="t('account.uses')"><UsesPanel :account="id" @changed="load" /></TabPane>
      <TabPane key="rights" :tab="t('account.rights')"
        ><RightsTree v-if="tab === 'rights'" :account="id" :name="detail.account.name"
      /></TabPane>
      <TabPane key="ends" :tab="t('ends.tab')"
        ><AccountEnds
          v-if="tab === 'ends'"
          :account="id"
          :name="detail.account.name"
          :system="detail.account.system"
          :kind="detail.account.system_kind"
      /></TabPane>
      <TabPane key="history" :tab="t('account.history')">
        <Picture
          v-if="tab === 'history'"
          :question="t('life.question', { name: detail.account.name })"
          :drawing="drawing"
          :empty="t('life.empty')"
          :columns="[t('life.what'), t('fields.kind'), t('life.when')]"
        />
        <section class="panel history"><RotationHistory :rotations="history" /></section>
        <ChangeHistory v-if="tab === 'history'" class="history" of="account_id" :value="id" />
      </TabPane>
      <TabPane v-if="mayRotate" key="rotate" :tab="t('account.rotate')">
        <template v-if="latent">
          <h2>{{ t('why.repair') }}</h2>
          <p class="soft">{{ t('account.repairWhat') }}</p>
          <RotatePanel :account="id" :name="detail.account.name" repair :verb="t('rotate.repairNow')" />
          <h2>{{ t('account.rotate') }}</h2>
        </template>
        <RotatePanel :account="id" :name="detail.account.name" />
      </TabPane>
      <TabPane key="raw" :tab="t('account.raw')">
        <pre class="panel raw mono" tabindex="0">{{ JSON.stringify(detail, null, 2) }}</pre>
      </TabPane>
    </Tabs>
  </template>
</template>

<style scoped>
.tabs {
  margin-top: 12px;
}
.history {
  margin-top: 12px;
}
.raw {
  overflow: auto;
  max-height: 60vh;
  margin: 0;
}
</style>
