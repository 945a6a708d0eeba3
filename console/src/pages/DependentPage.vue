<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import ChangeHistory from '../components/ChangeHistory.vue'
import DependentFacts from '../components/DependentFacts.vue'
import FindingPanel from '../components/FindingPanel.vue'
import SystemLink from '../components/SystemLink.vue'
import { chainsAround, startedOf } from '../components/order'
import PageHead from '../components/PageHead.vue'
import StartOrder from '../components/StartOrder.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import WhyPanel from '../components/WhyPanel.vue'
import { t } from '../texts'

const id = Number(useRoute().params.id)
const d = ref<Schemas['Dependent']>()
const around = ref<Schemas['Dependent'][]>([])
const findings = ref<Schemas['Finding'][]>([])
const trouble = ref('')

async function load(): Promise<void> {
  try {
    const own = await data(api.GET('/api/v1/dependents/{id}', { params: { path: { id } } }))
    if (own.kind === 'service' || own.kind === 'unit') {
      const filter = [`system=${own.system}`, `kind=${own.kind}`, 'gone=']
      around.value = (await data(api.GET('/api/v1/dependents', { params: { query: { filter, limit: 500 } } }))).items
    }
    const filter = [`system=${own.system}`, `subject=${own.place}`]
    findings.value = (await data(api.GET('/api/v1/findings', { params: { query: { filter, limit: 20 } } }))).items
    d.value = own
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())

const runs = computed(() => ['unit', 'service', 'pool'].includes(d.value?.kind ?? ''))
const chain = computed(() => {
  const all = around.value.map((o) => startedOf(o, o.id === id))
  const list = chainsAround(all, (s) => s.id === id)
  return list.length > 1 ? list : []
})
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <template v-if="d">
    <PageHead :title="d.name" :lead="d.description"
      ><template #title
        >{{ d.name }} <span class="soft">{{ t('words.on') }}</span> <SystemLink :name="d.system" />{{ ' '
        }}<StateTag :state="d.state ?? ''" /></template
    ></PageHead>
    <FindingPanel :findings="findings" :about="d.place" />
    <div class="panel"><DependentFacts :dependent="d" /></div>
    <template v-if="chain.length"
      ><h2>{{ t('dependents.order') }}</h2>
      <div class="panel"><StartOrder :services="chain" :label="t('dependents.orderLabel')" /></div
    ></template>
    <template v-if="runs"
      ><h2>{{ t('why.title') }}</h2>
      <WhyPanel :dependent="id"
    /></template>
    <ChangeHistory class="changes" of="dependent_id" :value="id" />
  </template>
</template>

<style scoped>
.changes {
  margin-top: 12px;
}
</style>
