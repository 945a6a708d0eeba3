<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import CredentialCustody from '../components/CredentialCustody.vue'
import { kindNames } from '../components/credentials'
import KeyPicture from '../components/KeyPicture.vue'
import RotatePanel from '../components/RotatePanel.vue'
import RotationHistory from '../components/RotationHistory.vue'
import FindingPanel from '../components/FindingPanel.vue'
import Trouble from '../components/Trouble.vue'
import { plural } from '../components/words'
import { useSession } from '../state/session'

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
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const places = computed(() => detail.value?.dependents ?? [])
const of = computed(() => detail.value?.credential)
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="detail && of">
    <h1>
      {{ of.name }}
      <span class="soft"
        >{{ kindNames[of.kind] ?? of.kind }}<template v-if="of.type">, {{ of.type }}</template
        ><template v-if="of.bits">, {{ of.bits }} bits</template></span
      >
    </h1>
    <p v-if="of.fingerprint" class="soft mono break">{{ of.fingerprint }}</p>
    <p v-else class="soft">
      Of <RouterLink :to="`/accounts/${of.account_id}`">{{ of.name }} on {{ of.system }}</RouterLink
      >, which shows what depends on it. Held at {{ plural(of.locations, 'place') }}.
    </p>
    <FindingPanel :findings="detail.findings" :about="of.name" />
    <template v-if="of.kind === 'ssh-key'">
      <h2>What it opens, and who holds it</h2>
      <KeyPicture :name="of.name" :dependents="places" />
    </template>
    <div v-if="detail.incomplete.length" class="panel incomplete">
      <b>The picture is incomplete:</b> {{ plural(detail.incomplete.length, 'system') }} not read completely, so it may be there too.
      <div v-for="i in detail.incomplete" :key="i.system" class="soft">{{ i.system }}: {{ i.why }}</div>
    </div>
    <div class="two">
      <section>
        <h2>Custody</h2>
        <CredentialCustody :credential="of" @changed="load" />
      </section>
      <section>
        <h2>History</h2>
        <RotationHistory :rotations="history" />
      </section>
    </div>
    <template v-if="of.state === 'custody' && session.may('operator')">
      <h2>Rotate</h2>
      <RotatePanel :credential="id" :kind="of.kind" />
    </template>
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
}
.break {
  overflow-wrap: anywhere;
}
.incomplete {
  margin-top: 10px;
  border-color: var(--warn);
}
@media (max-width: 1000px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
