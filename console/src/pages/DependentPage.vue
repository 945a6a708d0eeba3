<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, Problem, type Schemas } from '../api/client'
import Evidence from '../components/Evidence.vue'
import { chainsAround, startedOf } from '../components/order'
import StartOrder from '../components/StartOrder.vue'
import KeyFacts from '../components/KeyFacts.vue'
import FindingPanel from '../components/FindingPanel.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import WhyPanel from '../components/WhyPanel.vue'

const id = Number(useRoute().params.id)
const d = ref<Schemas['Dependent']>()
const around = ref<Schemas['Dependent'][]>([])
const findings = ref<Schemas['Finding'][]>([])
const trouble = ref('')

async function load(): Promise<void> {
  try {
    const own = await data(api.GET('/api/v1/dependents/{id}', { params: { path: { id } } }))
    if (own.kind === 'service' || own.kind === 'unit') {
      around.value = (
        await data(
          api.GET('/api/v1/dependents', {
            params: { query: { filter: [`system=${own.system}`, `kind=${own.kind}`, 'gone='], limit: 500 } },
          }),
        )
      ).items
    }
    findings.value = (
      await data(
        api.GET('/api/v1/findings', { params: { query: { filter: [`system=${own.system}`, `subject=${own.place}`], limit: 20 } } }),
      )
    ).items
    d.value = own
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const runs = computed(() => ['unit', 'service', 'pool'].includes(d.value?.kind ?? ''))
const chain = computed(() => {
  const list = chainsAround(
    around.value.map((o) => startedOf(o, o.id === id)),
    (s) => s.id === id,
  )
  return list.length > 1 ? list : []
})
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="d">
    <h1>
      {{ d.name }} <span class="soft">on</span> <RouterLink :to="`/systems/${encodeURIComponent(d.system)}`">{{ d.system }}</RouterLink>{{
        ' '
      }}
      <StateTag :state="d.state ?? ''" />
    </h1>
    <p class="soft">{{ d.description }}</p>
    <FindingPanel :findings="findings" :about="d.place" />
    <dl class="facts panel">
      <dt>Kind</dt>
      <dd>{{ d.kind }}</dd>
      <dt>Place</dt>
      <dd class="mono">{{ d.place }}</dd>
      <template v-if="d.runs_as"
        ><dt>Runs as</dt>
        <dd>
          {{ d.runs_as }} <StateTag :state="d.identity" as="" /><span v-if="d.kind !== 'unit'" class="soft"
            >&nbsp; {{ d.stores ? 'its system keeps the password' : 'no password is kept' }}</span
          >
        </dd></template
      >
      <template v-if="d.result"
        ><dt>Last result</dt>
        <dd>{{ d.result }}</dd></template
      >
      <template v-if="d.started"
        ><dt>Runs since</dt>
        <dd><When :at="d.started" /></dd
      ></template>
      <template v-if="d.given_at"
        ><dt>Log-on given from here</dt>
        <dd><When :at="d.given_at" /></dd
      ></template>
      <template v-if="d.start_mode"
        ><dt>Start</dt>
        <dd>{{ d.start_mode }}</dd></template
      >
      <template v-if="d.schedule"
        ><dt>Schedule</dt>
        <dd>{{ d.schedule }}</dd></template
      >
      <template v-if="d.executable"
        ><dt>Program</dt>
        <dd class="mono">{{ d.executable }}</dd></template
      >
      <KeyFacts v-if="d.key" :of="d.key" />
      <template v-if="d.check"
        ><dt>Own check</dt>
        <dd>
          {{ d.check.kind }} {{ d.check.target }} <span v-if="d.check.contains" class="soft">contains “{{ d.check.contains }}”</span>
        </dd></template
      >
      <dt>Tied to</dt>
      <dd>
        <div v-for="t in d.ties" :key="t.account_id + t.evidence">
          <RouterLink :to="`/accounts/${t.account_id}`">{{ t.account }}</RouterLink> <Evidence :tie="t" />{{ ' ' }}
          <span class="soft">{{ t.detail }}</span>
        </div>
        <span v-if="!d.ties.length" class="soft">no known account</span>
      </dd>
      <dt>Seen</dt>
      <dd><When :at="d.seen" />, first <When :at="d.first_seen" /></dd>
    </dl>
    <template v-if="chain.length"
      ><h2>Start order</h2>
      <div class="panel"><StartOrder :services="chain" label="Start order, from left to right" /></div
    ></template>
    <template v-if="runs"
      ><h2>Diagnosis</h2>
      <WhyPanel :dependent="id"
    /></template>
  </template>
</template>

<style scoped></style>
