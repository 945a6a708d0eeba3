<script setup lang="ts">
import { Button, Input } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import Explanation from './Explanation.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

const props = defineProps<{ dependent: number }>()
const RotatePanel = defineAsyncComponent(() => import('./RotatePanel.vue'))
const session = useSession()
const x = ref<Schemas['Explanation']>()
const { busy, trouble, work } = useWork()
const reason = ref('')
const said = ref<string[]>([])

const ask = async () => (x.value = await data(api.POST('/api/v1/dependents/{id}/explain', { params: { path: { id: props.dependent } } })))
const explain = () => work('explain', ask)
const start = () =>
  work('start', async () => {
    const body = { dependents: x.value?.repair?.start ?? [], reason: reason.value }
    said.value = (await data(api.POST('/api/v1/dependents/start', { body }))).words
    await ask()
  })
</script>

<template>
  <div class="panel" aria-live="polite">
    <div class="row">
      <Button type="primary" :loading="busy === 'explain'" :disabled="!session.may('operator')" @click="explain">{{
        x ? t('why.again') : t('why.ask')
      }}</Button>
      <span v-if="!x" class="soft">{{ t('why.what') }}</span>
    </div>
    <Trouble :words="trouble" />
    <template v-if="x">
      <p class="verdict">
        <b>{{ x.verdict }}.</b>
      </p>
      <template v-if="x.first"
        ><h2>{{ t('why.first', { place: x.first.dependent.place }) }}</h2>
        <Explanation :explanation="x.first" />
        <h2>{{ t('why.itself', { place: x.dependent.place }) }}</h2></template
      >
      <Explanation :explanation="x" />
      <template v-if="x.repair">
        <h2>{{ t('why.repair') }}</h2>
        <p>{{ x.repair.words }}.</p>
        <div v-if="x.repair.kind === 'start'" class="row">
          <Input v-model:value="reason" class="reason" :aria-label="t('why.reason')" :placeholder="t('fields.reasonRecorded')" />
          <Button type="primary" :disabled="!reason" :loading="busy === 'start'" @click="start">{{ t('why.start') }}</Button>
        </div>
        <RotatePanel
          v-else-if="x.repair.account_id"
          :account="x.repair.account_id"
          :assign="x.repair.assign ?? undefined"
          start
          :verb="t('rotate.repairNow')"
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
.reason {
  max-width: 420px;
}
</style>
