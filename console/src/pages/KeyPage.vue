<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import KeyCustody from '../components/KeyCustody.vue'
import KeyPicture from '../components/KeyPicture.vue'
import RotatePanel from '../components/RotatePanel.vue'
import RotationHistory from '../components/RotationHistory.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import { plural } from '../components/words'
import { useSession } from '../state/session'

const session = useSession()
const id = Number(useRoute().params.id)
const detail = ref<Schemas['KeyDetail']>()
const history = ref<Schemas['Rotation'][]>([])
const findings = ref<Schemas['Finding'][]>([])
const trouble = ref('')

async function load(): Promise<void> {
  try {
    detail.value = await data(api.GET('/api/v1/keys/{id}', { params: { path: { id } } }))
    history.value = (await data(api.GET('/api/v1/rotations', { params: { query: { filter: [`key_id=${id}`], limit: 10 } } }))).items
    const about = new Set(detail.value.dependents.map((d) => d.id))
    const all = (await data(api.GET('/api/v1/findings', { params: { query: { filter: ['kind*=*key*'], limit: 500 } } }))).items
    findings.value = all.filter((f) => f.dependent_id && about.has(f.dependent_id))
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const places = computed(() => detail.value?.dependents ?? [])
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="detail">
    <h1>{{ detail.key.name }} <span class="soft">{{ detail.key.type }}<template v-if="detail.key.bits">, {{ detail.key.bits }} bits</template></span></h1>
    <p class="soft mono break">{{ detail.key.fingerprint }}</p>
    <div v-for="f in findings" :key="f.id" class="panel finding"><StateTag :state="f.severity" /> {{ f.what }}<div class="soft">{{ f.next_step }}</div></div>
    <h2>What it opens, and who holds it</h2>
    <KeyPicture :name="detail.key.name" :dependents="places" />
    <div v-if="detail.incomplete.length" class="panel incomplete"><b>The picture is incomplete:</b> {{ plural(detail.incomplete.length, 'system') }} not read completely, so the key may be there too.
      <div v-for="i in detail.incomplete" :key="i.system" class="soft">{{ i.system }}: {{ i.why }}</div></div>
    <div class="two">
      <section><h2>Custody</h2><KeyCustody :key-pair="id" :holders="detail.key.holders" :custody="detail.custody" @changed="load" /></section>
      <section>
        <h2>History</h2>
        <RotationHistory :rotations="history" />
      </section>
    </div>
    <template v-if="detail.custody && session.may('operator')">
      <h2>Rotate</h2>
      <RotatePanel :key-pair="id" />
    </template>
  </template>
</template>

<style scoped>
.two { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 16px; }
.finding { margin: 6px 0; }
.break { overflow-wrap: anywhere; }
.incomplete { margin-top: 10px; border-color: var(--warn); }
@media (max-width: 1000px) { .two { grid-template-columns: 1fr; } }
</style>
