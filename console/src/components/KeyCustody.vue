<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'
import { useWork } from './work'

const props = defineProps<{ keyPair: number; holders: number; custody?: Schemas['Custody'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const pasted = ref('')
const reason = ref('')
const mode = ref<'' | 'give' | 'release'>('')
const said = ref('')
const { busy, trouble, work } = useWork()
const path = { id: props.keyPair }

async function act(what: string, does: () => Promise<string>): Promise<void> {
  said.value = ''
  await work(what, async () => {
    said.value = await does()
    mode.value = ''
  })
  pasted.value = ''
  emit('changed')
}
const take = () =>
  act('take', async () => {
    const v = await data(api.POST('/api/v1/keys/{id}/custody', { params: { path }, body: pasted.value ? { private_key: pasted.value } : {} }))
    return `In custody: ${v.custody?.words ?? ''}.`
  })
const verify = () =>
  act('verify', async () => {
    const v = await data(api.POST('/api/v1/keys/{id}/custody/verify', { params: { path } }))
    if (!v.accepted) throw new Problem('Refused: ' + v.words, 0)
    return v.words + '.'
  })
const release = () =>
  act('release', async () => {
    await data(api.POST('/api/v1/keys/{id}/custody/release', { params: { path }, body: { reason: reason.value } }))
    return 'Released: the sealed keys are removed.'
  })
</script>

<template>
  <div class="panel">
    <p v-if="custody" class="first">In custody since <When :at="custody.taken" /> (by {{ custody.taken_by }}). Verified <When :at="custody.verified" />: <StateTag :state="custody.verdict" /> <span class="soft">{{ custody.words }}</span><template v-if="custody.rotated"> Rotated <When :at="custody.rotated" />.</template></p>
    <p v-else class="first soft">Not in custody. {{ holders ? 'It can be read from a file that holds it; signing in at the accounts that it opens proves it at once.' : 'No file that was read holds it: paste its private half, which is proven at once.' }}</p>
    <Trouble :words="trouble" />
    <p v-if="said" role="status">{{ said }}</p>
    <div v-if="session.may('operator')" class="row">
      <template v-if="!mode">
        <Button v-if="custody" :loading="busy === 'verify'" @click="verify">Verify now</Button>
        <Button v-if="!custody && holders" type="primary" :loading="busy === 'take'" @click="take">Take into custody</Button>
        <Button v-if="!custody" @click="mode = 'give'">Paste the private half</Button>
        <Button v-if="custody" @click="mode = 'release'">Release</Button>
      </template>
      <form v-else class="row" @submit.prevent="mode === 'give' ? take() : release()">
        <span v-if="mode === 'release'">Removes the sealed keys. Where the key is held it stays as it is.</span>
        <textarea v-if="mode === 'give'" v-model="pasted" class="field wide mono" rows="5" required autocomplete="off" spellcheck="false" aria-label="Private key in PEM" placeholder="The private key, in PEM" />
        <input v-else v-model="reason" class="field wide" required aria-label="Reason" placeholder="Reason (recorded)" />
        <Button type="primary" :danger="mode !== 'give'" html-type="submit" :loading="busy !== ''">{{ mode === 'give' ? 'Take and prove' : 'Release it' }}</Button>
        <Button @click="mode = ''; pasted = ''">Cancel</Button>
      </form>
    </div>
  </div>
</template>

<style scoped>
.first { margin-top: 0; }
.wide { min-width: 320px; }
</style>
