<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import Explanation from './Explanation.vue'
import RotatePanel from './RotatePanel.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

const props = defineProps<{ dependent: number }>()
const session = useSession()
const x = ref<Schemas['Explanation']>()
const { busy, trouble, work } = useWork()
const reason = ref('')
const said = ref<string[]>([])

const explain = () =>
  work('explain', async () => {
    x.value = await data(api.POST('/api/v1/dependents/{id}/explain', { params: { path: { id: props.dependent } } }))
  })
const start = () =>
  work('start', async () => {
    said.value = (
      await data(api.POST('/api/v1/dependents/start', { body: { dependents: x.value?.repair?.start ?? [], reason: reason.value } }))
    ).words
    x.value = await data(api.POST('/api/v1/dependents/{id}/explain', { params: { path: { id: props.dependent } } }))
  })
</script>

<template>
  <div class="panel" aria-live="polite">
    <div class="row">
      <Button type="primary" :loading="busy === 'explain'" :disabled="!session.may('operator')" @click="explain">{{
        x ? 'Ask again' : 'Why is it down?'
      }}</Button>
      <span v-if="!x" class="soft"
        >Asks the system itself, its event records and the directory, and signs in once with the value in custody. It changes nothing.</span
      >
    </div>
    <Trouble :words="trouble" />
    <template v-if="x">
      <p class="verdict">
        <b>{{ x.verdict }}.</b>
      </p>
      <template v-if="x.first"
        ><h2>What failed first: {{ x.first.dependent.place }}</h2>
        <Explanation :explanation="x.first" />
        <h2>{{ x.dependent.place }} itself</h2></template
      >
      <Explanation :explanation="x" />
      <template v-if="x.repair">
        <h2>Repair</h2>
        <p>{{ x.repair.words }}.</p>
        <div v-if="x.repair.kind === 'start'" class="row">
          <input v-model="reason" class="field" aria-label="Reason of the start" placeholder="Reason (recorded)" />
          <Button type="primary" :disabled="!reason" :loading="busy === 'start'" @click="start">Start</Button>
        </div>
        <RotatePanel
          v-else-if="x.repair.account_id"
          :account="x.repair.account_id"
          :assign="x.repair.assign ?? undefined"
          start
          verb="Repair now"
        />
      </template>
      <p v-for="s in said" :key="s" class="soft">{{ s }}</p>
    </template>
  </div>
</template>

<style scoped>
.verdict {
  font-size: 15px;
}
</style>
