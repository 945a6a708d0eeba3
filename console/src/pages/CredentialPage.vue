<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import CredentialCustody from '../components/CredentialCustody.vue'
import { isPair, kindName } from '../components/credentials'
import FindingPanel from '../components/FindingPanel.vue'
import IncompleteSystems from '../components/IncompleteSystems.vue'
import KeyPicture from '../components/KeyPicture.vue'
import PageHead from '../components/PageHead.vue'
import RotationHistory from '../components/RotationHistory.vue'
import Trouble from '../components/Trouble.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const RotatePanel = defineAsyncComponent(() => import('../components/RotatePanel.vue'))
const session = useSession()
const id = Number(useRoute().params.id)
const detail = ref<Schemas['CredentialDetail']>()
const history = ref<Schemas['Rotation'][]>([])
const trouble = ref('')

async function load(): Promise<void> {
  try {
    detail.value = await data(api.GET('/api/v1/credentials/{id}', { params: { path: { id } } }))
    history.value = (await data(api.GET('/api/v1/rotations', { params: { query: { filter: [`credential_id=${id}`], limit: 10 } } }))).items
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const places = computed(() => detail.value?.dependents ?? [])
const of = computed(() => detail.value?.credential)
const kind = computed(() =>
  of.value
    ? [kindName(of.value.kind), of.value.type, of.value.bits ? t('credentials.nBits', { n: of.value.bits }) : ''].filter(Boolean).join(', ')
    : '',
)
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="detail && of">
    <PageHead :title="of.name">
      <template #title
        >{{ of.name }} <span class="soft">{{ kind }}</span></template
      >
      <template #lead
        ><span v-if="of.fingerprint" class="mono break">{{ of.fingerprint }}</span
        ><template v-else
          ><RouterLink :to="`/accounts/${of.account_id}`">{{
            t('credentials.ofAccount', { name: of.name, system: of.system })
          }}</RouterLink>
          {{ t('credentials.showsDependents', of.locations) }}</template
        ></template
      >
    </PageHead>
    <FindingPanel :findings="detail.findings" :about="of.name" />
    <template v-if="isPair(of.kind)">
      <h2>{{ t(of.kind === 'certificate' ? 'keys.pictureShown' : 'keys.picture') }}</h2>
      <KeyPicture :name="of.name" :dependents="places" :shown="of.kind === 'certificate'" />
    </template>
    <IncompleteSystems :systems="detail.incomplete" />
    <div class="two">
      <section>
        <h2>{{ t('fields.custody') }}</h2>
        <div class="panel"><CredentialCustody :credential="of" @changed="load" /></div>
      </section>
      <section>
        <h2>{{ t('account.history') }}</h2>
        <div class="panel"><RotationHistory :rotations="history" /></div>
      </section>
    </div>
    <template v-if="of.state === 'custody' && session.may('operator')">
      <h2>{{ t('account.rotate') }}</h2>
      <RotatePanel :credential="id" :kind="of.kind" :name="of.name" />
    </template>
  </template>
</template>
