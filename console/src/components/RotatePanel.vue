<script setup lang="ts">
import { Button, Checkbox, Input } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { passwordOf } from './credentials'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import WhenRestart, { type Restart } from './WhenRestart.vue'

/** Rotates a credential, or the password of an account; with assign or repair its current value goes to those dependents instead. */
const props = defineProps<{
  account?: number
  credential?: number
  kind?: string
  assign?: number[]
  repair?: boolean
  start?: boolean
  verb?: string
}>()
const session = useSession()
const router = useRouter()
const rehearsal = ref<Schemas['RehearsalAnswer']>()
const policy = ref<'stop' | 'continue' | 'undo'>('undo')
const restart = ref<Restart>({ restart: 'now', from: '', to: '' })
const reason = ref('')
const type = ref('')
const stopFirst = ref(false)
// Asked for once a rehearsal has found service principal names without a key tab.
const noAcceptors = ref('')
const asksAcceptors = ref(false)
const { busy, trouble, work } = useWork()

// What is stopped must run again whatever happens, so that only undoing fits.
const mayStopFirst = computed(
  () => policy.value === 'undo' && restart.value.restart === 'now' && !props.assign && !props.repair && props.kind !== 'ssh-key',
)

const wish = computed(() => ({
  policy: policy.value,
  restart: restart.value.restart,
  ...(restart.value.restart === 'window' ? { not_before: utc(restart.value.from), not_after: utc(restart.value.to) } : {}),
  ...(props.assign ? { assign: props.assign } : {}),
  ...(type.value ? { type: type.value } : {}),
  ...(stopFirst.value && mayStopFirst.value ? { stop_first: true } : {}),
  ...(noAcceptors.value ? { no_acceptors: noAcceptors.value } : {}),
  repair: props.repair ?? false,
  start: props.start ?? false,
}))
const path = async () => ({ id: props.credential ?? (await passwordOf(props.account ?? 0)) })
function utc(text: string): string | undefined {
  return text ? new Date(text + 'Z').toISOString() : undefined
}
// What was rehearsed is what may be started, once: a click whose answer was
// lost, and the click after it, carry the same key.
const key = ref('')
watch([rehearsal, reason], () => (key.value = crypto.randomUUID()))
watch(wish, () => (rehearsal.value = undefined))
watch(rehearsal, (r) => (asksAcceptors.value ||= r?.rehearsal.plan.notes?.some((n) => n.kind === 'acceptor') ?? false))
const rehearse = () =>
  work('rehearse', async () => {
    rehearsal.value = await data(api.POST('/api/v1/credentials/{id}/rehearsals', { params: { path: await path() }, body: wish.value }))
  })
const rotate = () =>
  work('rotate', async () => {
    const params = { path: await path(), header: { 'Idempotency-Key': key.value } }
    const started = await data(api.POST('/api/v1/credentials/{id}/rotations', { params, body: { ...wish.value, reason: reason.value } }))
    await router.push(`/rotations/${started.rotation.id}`)
  })

const passed = computed(() => rehearsal.value?.rehearsal.verdict === 'passed')
const rows = computed(() => {
  const order: Record<string, number> = { failed: 0, warning: 1, unchecked: 2, ok: 3 }
  return [...(rehearsal.value?.rehearsal.checks ?? [])].sort((a, b) => (order[a.result] ?? 4) - (order[b.result] ?? 4))
})
</script>

<template>
  <div class="panel">
    <div class="row">
      <label class="row"
        ><span>When a step fails</span>
        <select v-model="policy" class="field">
          <option value="undo">undo everything</option>
          <option value="stop">stop and ask</option>
          <option value="continue">continue without it</option>
        </select>
      </label>
      <label v-if="kind === 'ssh-key'" class="row"
        ><span>New key</span>
        <select v-model="type" class="field">
          <option value="">of the same type</option>
          <option value="ssh-ed25519">ssh-ed25519</option>
          <option value="ecdsa-sha2-nistp256">ecdsa-sha2-nistp256</option>
          <option value="ssh-rsa">ssh-rsa, 3072 bits</option>
        </select>
      </label>
      <WhenRestart v-model="restart" />
      <Checkbox
        v-if="mayStopFirst"
        v-model:checked="stopFirst"
        title="Where wrong passwords lock the account: what would go on with the old value is stopped before the change, and started with the new one"
        >Stop dependents first</Checkbox
      >
      <Button :type="passed ? 'default' : 'primary'" :loading="busy === 'rehearse'" :disabled="!session.may('operator')" @click="rehearse"
        >Rehearse</Button
      >
      <template v-if="passed">
        <input v-model="reason" class="field reason" aria-label="Reason of the rotation" placeholder="Reason (recorded)" />
        <Button type="primary" :disabled="!reason" :loading="busy === 'rotate'" @click="rotate">{{ verb ?? 'Rotate now' }}</Button>
      </template>
    </div>
    <label v-if="asksAcceptors" class="row asks"
      ><span>Nothing else accepts tickets as it, because</span>
      <Input v-model:value.lazy="noAcceptors" class="reason" placeholder="Why no key tab is needed (recorded)" :maxlength="500" />
    </label>
    <p v-if="!rehearsal" class="soft">
      A rehearsal says what a rotation would do and checks all that can be checked, without changing anything. It needs one that passed
      within the hour.
    </p>
    <Trouble :words="trouble" />
    <template v-if="rehearsal">
      <p>The rehearsal <StateTag :state="rehearsal.rehearsal.verdict" />. Expected interruption: {{ rehearsal.interruption }}.</p>
      <div class="two">
        <div>
          <h2>What will happen</h2>
          <ol class="list">
            <li v-for="s in rehearsal.steps" :key="s">{{ s }}</li>
          </ol>
          <template v-if="rehearsal.rehearsal.plan.notes?.length"
            ><h2>Worth knowing</h2>
            <ul class="list">
              <li v-for="n in rehearsal.rehearsal.plan.notes" :key="n.text">
                <b v-if="n.kind !== 'info' && n.kind !== 'left-alone'">{{ n.kind.replaceAll('-', ' ') }}: </b>{{ n.text }}
              </li>
            </ul></template
          >
        </div>
        <div>
          <h2>What was checked</h2>
          <table class="dense">
            <thead>
              <tr>
                <th scope="col">Result</th>
                <th scope="col">System</th>
                <th scope="col">Check</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(c, i) in rows" :key="i">
                <td><StateTag :state="c.result" /></td>
                <td>{{ c.system }}</td>
                <td>
                  {{ c.what }}
                  <div v-if="c.words" class="soft">{{ c.words }}</div>
                  <div v-if="c.next" class="soft">{{ c.next }}</div>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.reason {
  flex: 1;
  min-width: 180px;
}
.asks {
  margin-top: 8px;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 18px;
}
.list {
  margin: 0;
  padding-left: 22px;
}
@media (max-width: 1000px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
