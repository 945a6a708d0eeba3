<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'

const props = defineProps<{ account: number; custody?: Schemas['Custody'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const password = ref('')
const reason = ref('')
const mode = ref<'' | 'take' | 'reset' | 'release'>('')
const trouble = ref('')
const said = ref('')
const busy = ref(false)

async function work(act: () => Promise<string>): Promise<void> {
  busy.value = true
  trouble.value = said.value = ''
  try {
    said.value = await act()
    mode.value = ''
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
  } finally {
    busy.value = false
    password.value = ''
    emit('changed')
  }
}

const path = { id: props.account }
const take = () =>
  work(async () => {
    await data(api.POST('/api/v1/accounts/{id}/custody', { params: { path }, body: { password: password.value } }))
    return 'In custody: the authority accepted the value just now.'
  })
const reset = () =>
  work(async () => {
    await data(api.POST('/api/v1/accounts/{id}/custody', { params: { path }, body: { reset: true, reason: reason.value } }))
    return 'Reset: a new value is sealed and in force.'
  })
const verify = () =>
  work(async () => {
    const v = await data(api.POST('/api/v1/accounts/{id}/custody/verify', { params: { path } }))
    if (!v.accepted) throw new Problem('Refused: ' + v.words, 0)
    return 'The authority accepts the sealed value.'
  })
const release = () =>
  work(async () => {
    await data(api.POST('/api/v1/accounts/{id}/custody/release', { params: { path }, body: { reason: reason.value } }))
    return 'Released: the sealed values are removed.'
  })
</script>

<template>
  <div class="panel">
    <p v-if="custody" class="first">In custody since <When :at="custody.taken" /> (by {{ custody.taken_by }}). Verified <When :at="custody.verified" />: <StateTag :state="custody.verdict" /> <span class="soft">{{ custody.words }}</span><template v-if="custody.rotated"> Rotated <When :at="custody.rotated" />.</template></p>
    <p v-else class="first soft">Not in custody: Moss Ledger does not keep its password. Give the known one, which is verified at once, or let it be reset.</p>
    <Trouble :words="trouble" />
    <p v-if="said" role="status">{{ said }}</p>
    <div v-if="session.may('operator')" class="row">
      <template v-if="!mode">
        <Button v-if="custody" :loading="busy" @click="verify">Verify now</Button>
        <Button :type="custody ? 'default' : 'primary'" @click="mode = 'take'">{{ custody ? 'Give a new known password' : 'Take into custody' }}</Button>
        <Button @click="mode = 'reset'">Reset</Button>
        <Button v-if="custody" @click="mode = 'release'">Release</Button>
      </template>
      <form v-else class="row" @submit.prevent="mode === 'take' ? take() : mode === 'reset' ? reset() : release()">
        <span v-if="mode === 'reset'">Sets a new password now. Whatever still holds the old one breaks at its next sign-in.</span>
        <span v-if="mode === 'release'">Removes the sealed values. Nobody here will know the password any more.</span>
        <input v-if="mode === 'take'" v-model="password" class="field" type="password" required autocomplete="off" aria-label="Known password" placeholder="Known password" />
        <input v-else v-model="reason" class="field reason" required aria-label="Reason" placeholder="Reason (recorded)" />
        <Button type="primary" :danger="mode !== 'take'" html-type="submit" :loading="busy">{{ mode === 'take' ? 'Take and verify' : mode === 'reset' ? 'Reset it' : 'Release it' }}</Button>
        <Button @click="mode = ''">Cancel</Button>
      </form>
    </div>
  </div>
</template>

<style scoped>
.first { margin-top: 0; }
.reason { min-width: 260px; }
</style>
