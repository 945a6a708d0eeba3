<script setup lang="ts">
import { Button, Input, Modal, Tooltip } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import { isPair, passwordOf } from './credentials'
import { decisionOf } from './rehearsal'
import RotateWish, { type Wish } from './RotateWish.vue'
import Trouble from './Trouble.vue'
import TypedName from './TypedName.vue'
import { useWork } from './work'

// Large, and needed only by those who rehearse.
const Rehearsed = defineAsyncComponent(() => import('./Rehearsed.vue'))

/** Rotates a credential, or the password of an account; with assign or repair its current value goes to those dependents instead. */
const props = defineProps<{
  account?: number
  credential?: number
  name?: string
  kind?: string
  assign?: number[]
  repair?: boolean
  start?: boolean
  verb?: string
}>()
/** Above so many steps the name is typed before it begins. */
const many = 60
const session = useSession()
const router = useRouter()
const rehearsal = ref<Schemas['RehearsalAnswer']>()
const before = ref<Schemas['RehearsalAnswer']>()
const wish = ref<Wish>({
  onFailure: 'undo',
  restart: 'now',
  type: '',
  stopFirst: false,
  noAcceptors: '',
  firstAlone: false,
  anyTime: false,
  way: 'any',
})
const reason = ref('')
const typed = ref('')
const asking = ref(false)
const emergency = ref('')
const waits = ref(0)
// Asked for once a rehearsal has found service principal names without a key tab.
const asksAcceptors = ref(false)
const { busy, trouble, work } = useWork()

// What is stopped must run again whatever happens, so that only undoing fits.
const mayStopFirst = computed(
  () => wish.value.onFailure === 'undo' && wish.value.restart === 'now' && !props.assign && !props.repair && !isPair(props.kind),
)
const body = computed(() => {
  const w = wish.value
  return {
    on_failure: w.onFailure,
    restart: w.restart,
    ...(w.restart === 'window' && w.window ? { not_before: w.window[0].toISOString(), not_after: w.window[1].toISOString() } : {}),
    ...(props.assign ? { assign: props.assign } : {}),
    ...(w.type ? { type: w.type } : {}),
    ...(w.lasts && props.kind === 'cloud-key' ? { lasts_days: w.lasts } : {}),
    ...(w.noReload && props.kind === 'certificate' ? { no_reload: true } : {}),
    ...(w.authority && props.kind === 'certificate' ? { authority: w.authority } : {}),
    ...(w.stopFirst && mayStopFirst.value ? { stop_first: true } : {}),
    ...(w.firstAlone ? { first_alone: true } : {}),
    ...(w.anyTime ? { any_time: true } : {}),
    ...(w.way !== 'any' && !isPair(props.kind) ? { way: w.way } : {}),
    ...(w.noAcceptors ? { no_acceptors: w.noAcceptors } : {}),
    ...(w.patience ? { patience: w.patience * 60 } : {}),
    repair: props.repair ?? false,
    start: props.start ?? false,
  }
})
const path = async () => ({ id: props.credential ?? (await passwordOf(props.account ?? 0)) })
// What was rehearsed is what may be started, once: a click whose answer was
// lost, and the click after it, carry the same key.
const key = ref('')
watch([rehearsal, reason, emergency], () => (key.value = crypto.randomUUID()))
watch(
  () => JSON.stringify(body.value),
  () => (rehearsal.value = undefined),
)
watch(rehearsal, (r) => (asksAcceptors.value ||= r?.rehearsal.plan.notes?.some((n) => n.kind === 'acceptor') ?? false))
const rehearse = () =>
  work('rehearse', async () => {
    const of = { path: await path() }
    // What the one before said is worth a comparison, and no reason to fail.
    before.value =
      rehearsal.value ?? (await data(api.GET('/api/v1/credentials/{id}/rehearsals/latest', { params: of })).catch(() => undefined))
    rehearsal.value = await data(api.POST('/api/v1/credentials/{id}/rehearsals', { params: of, body: body.value }))
  })
const rotate = () =>
  work('rotate', async () => {
    const params = { path: await path(), header: { 'Idempotency-Key': key.value } }
    const started = await data(
      api.POST('/api/v1/credentials/{id}/rotations', {
        params,
        body: { ...body.value, reason: reason.value, ...(emergency.value ? { emergency: emergency.value } : {}) },
      }),
    )
    asking.value = false
    if (started.waits_for_approval) {
      waits.value = started.waits_for_approval
      return
    }
    await router.push(`/rotations/${started.rotation.id}`)
  })

// A requirement says so; the rehearsal names it.
const needsTwo = computed(() => rehearsal.value?.rehearsal.checks.some((c) => c.what === 'one person is enough') ?? false)
const passed = computed(() => rehearsal.value?.rehearsal.verdict === 'passed')
const d = computed(() => (rehearsal.value ? decisionOf(rehearsal.value) : undefined))
const subject = computed(() => rehearsal.value?.rehearsal.plan.credential ?? props.name ?? '')
const label = computed(() =>
  d.value
    ? [
        props.verb ?? t('rotate.now', { name: subject.value }),
        t('rotate.places', d.value.places),
        t('rotate.restarts', d.value.restarts.length),
      ].join(', ')
    : '',
)
const why = computed(() => (!passed.value ? t('rotate.whyNotPassed') : !reason.value ? t('rotate.whyNoReason') : ''))
function go(): void {
  if ((rehearsal.value?.steps.length ?? 0) > many) {
    typed.value = ''
    asking.value = true
  } else void rotate()
}
</script>

<template>
  <div class="panel">
    <RotateWish v-model="wish" :kind="kind" :may-stop-first="mayStopFirst" :asks-acceptors="asksAcceptors" />
    <div class="row acts no-print">
      <Button
        :type="passed ? 'default' : 'primary'"
        :loading="busy === 'rehearse'"
        :disabled="!session.may('operator')"
        @click="rehearse"
        >{{ t('rotate.rehearse') }}</Button
      >
      <span v-if="!rehearsal" class="soft">{{ busy === 'rehearse' ? t('rotate.rehearsing') : t('rotate.whatIs') }}</span>
    </div>
    <Trouble :words="trouble" />
    <template v-if="rehearsal">
      <Rehearsed :answer="rehearsal" :before="before" />
      <div class="row no-print start">
        <Input
          v-model:value="reason"
          class="reason"
          :aria-label="t('rotate.reason')"
          :placeholder="t('fields.reasonRecorded')"
          :maxlength="500"
        />
        <Input
          v-if="needsTwo"
          v-model:value="emergency"
          class="reason"
          :aria-label="t('rotate.emergency')"
          :placeholder="t('rotate.emergency')"
          :maxlength="500"
        />
        <Tooltip :title="why">
          <Button type="primary" class="start-button" :disabled="why !== ''" :loading="busy === 'rotate'" @click="go">{{ label }}</Button>
        </Tooltip>
        <span v-if="why" class="soft">{{ why }}</span>
      </div>
      <p v-if="waits" role="status">
        <RouterLink to="/approvals">{{ t('rotate.waits', { n: waits }) }}</RouterLink>
      </p>
    </template>
    <Modal
      v-model:open="asking"
      :title="label"
      :ok-text="t('rotate.begin')"
      :cancel-text="t('do.notNow')"
      :ok-button-props="{ disabled: typed !== subject, loading: busy === 'rotate' }"
      @ok="rotate"
    >
      <TypedName id="typed-name" v-model="typed" :name="subject" />
    </Modal>
  </div>
</template>

<style scoped>
.acts {
  margin-top: 12px;
}
.start {
  margin-top: 12px;
  border-top: 1px solid var(--line);
  padding-top: 12px;
}
.reason {
  flex: 1;
  min-width: 200px;
}
.start-button {
  white-space: normal;
  height: auto;
}
</style>
