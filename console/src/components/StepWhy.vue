<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { t } from '../texts'
import Explanation from './Explanation.vue'
import { useWork } from './work'

/** The event records and causes behind a failed step, asked for when somebody wants them. */
const props = defineProps<{ step: Schemas['StepNow'] }>()
const x = ref<Schemas['Explanation']>()
const { busy, trouble, work } = useWork()

const ask = () =>
  work('ask', async () => {
    const filter = [`system=${props.step.system}`, `kind=${props.step.dependent ?? 'unit'}`, `place=${props.step.subject}`]
    const found = (await data(api.GET('/api/v1/dependents', { params: { query: { filter, limit: 1 } } }))).items[0]
    if (!found) throw new Problem(t('run.noLongerKnown', { what: props.step.subject, system: props.step.system }), 404)
    x.value = await data(api.POST('/api/v1/dependents/{id}/explain', { params: { path: { id: found.id } } }))
  })
</script>

<template>
  <div class="why">
    <Button v-if="!x" size="small" :loading="busy !== ''" @click="ask">{{ t('run.why') }}</Button>
    <span v-if="trouble" class="soft">{{ trouble }}</span>
    <div v-if="x" class="panel">
      <b>{{ x.verdict }}.</b><Explanation :explanation="x.first ?? x" />
    </div>
  </div>
</template>

<style scoped>
.why {
  margin-top: 4px;
}
</style>
