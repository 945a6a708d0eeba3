<script setup lang="ts">
import { Button, Input, Modal } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import TypedName from './TypedName.vue'
import { progress } from './waves'
import { useWork } from './work'

// Large, and needed only by those who rehearse.
const Rehearsed = defineAsyncComponent(() => import('./Rehearsed.vue'))

/** Stop, resume, undo: what may be decided about a rotation now, in one place. */
const props = defineProps<{ now: Schemas['RotationNow'] }>()
const emit = defineEmits<{ decided: [now: Schemas['RotationNow']] }>()
type Decision = 'stop' | 'resume' | 'go-on' | 'undo' | 'leave-away'
/** Above so many systems undoing asks for the name. */
const many = 5
const { busy, trouble, work } = useWork()
const reason = ref('')
const typed = ref('')
const asking = ref(false)
const r = computed(() => props.now.rotation)
const takes = (decision: Decision): boolean => props.now.decisions.includes(decision)
const away = computed(() => progress(props.now.steps).waiting.length > 0)
const systems = computed(() => new Set(props.now.steps.map((s) => s.system).filter(Boolean)).size)

const decide = (decision: Decision) =>
  work(decision, async () => {
    const body = { decision, reason: reason.value }
    emit('decided', await data(api.POST('/api/v1/rotations/{id}/decision', { params: { path: { id: r.value.id } }, body })))
    reason.value = ''
    asking.value = false
  })

// Undoing a finished rotation needs what a rotation needs.
const finished = computed(() => r.value.mode === 'finished' && r.value.result !== 'undo-incomplete')
const rehearsal = ref<Schemas['RehearsalAnswer']>()
const rehearse = () =>
  work('rehearse', async () => {
    rehearsal.value = await data(api.POST('/api/v1/rotations/{id}/rehearsals', { params: { path: { id: r.value.id } } }))
  })
const mayUndo = computed(() => !finished.value || (rehearsal.value?.rehearsal.verdict === 'passed' && reason.value !== ''))
function undo(): void {
  typed.value = ''
  asking.value = true
}
</script>

<template>
  <section class="panel acts no-print" :aria-label="t('run.acts')">
    <div class="row">
      <b v-if="r.mode === 'stopped'">{{ t('run.waits') }}</b>
      <b v-else-if="r.result === 'done-with-failures'">{{ t('run.endedFailed') }}</b>
      <Input
        v-model:value="reason"
        class="reason"
        :aria-label="t('run.reason')"
        :placeholder="t('fields.reasonRecorded')"
        :maxlength="500"
      />
      <Button v-if="takes('stop')" :loading="busy === 'stop'" :title="t('run.stopWhat')" @click="decide('stop')">{{ t('do.stop') }}</Button>
      <Button v-if="takes('resume')" type="primary" :loading="busy === 'resume'" @click="decide('resume')">{{ t('run.resume') }}</Button>
      <Button v-if="r.mode === 'stopped' && takes('go-on')" :loading="busy === 'go-on'" @click="decide('go-on')">{{
        t('run.goOn')
      }}</Button>
      <Button v-if="takes('leave-away') && away" :loading="busy === 'leave-away'" @click="decide('leave-away')">{{
        t('run.leaveAway')
      }}</Button>
      <Button v-if="finished" :loading="busy === 'rehearse'" @click="rehearse">{{ t('run.rehearseUndo') }}</Button>
      <Button
        v-if="takes('undo') && r.mode !== 'undoing'"
        danger
        :disabled="!mayUndo"
        :title="mayUndo ? undefined : t('run.undoNeeds')"
        @click="undo"
        >{{ t('run.undo') }}</Button
      >
    </div>
    <Trouble :words="trouble" />
    <template v-if="rehearsal">
      <p v-if="!reason" class="soft">{{ t('run.undoReason') }}</p>
      <Rehearsed :answer="rehearsal" undo />
    </template>
    <Modal
      v-model:open="asking"
      :title="t('run.undoAsk', { n: r.id, name: r.credential })"
      :ok-text="t('run.undoYes')"
      :cancel-text="t('do.notNow')"
      :ok-button-props="{ danger: true, disabled: systems > many && typed !== r.credential, loading: busy === 'undo' }"
      @ok="decide('undo')"
    >
      <p>{{ t('run.undoWhat', systems) }}</p>
      <TypedName v-if="systems > many" id="undo-name" v-model="typed" :name="r.credential" />
    </Modal>
  </section>
</template>

<style scoped>
.acts {
  margin: 10px 0;
}
.reason {
  flex: 1;
  min-width: 200px;
}
</style>
