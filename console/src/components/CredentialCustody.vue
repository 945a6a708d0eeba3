<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { passwordOf } from './credentials'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import When from './When.vue'

/** Custody of a credential of any kind; without one, of the password of an account that nobody noted yet. */
const props = defineProps<{ credential?: Schemas['Credential']; account?: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const given = ref('')
const reason = ref('')
const mode = ref<'' | 'give' | 'reset' | 'release'>('')
const said = ref('')
const { busy, trouble, work } = useWork()

const kept = computed(() => (props.credential?.state === 'custody' ? props.credential : undefined))
const isKey = computed(() => props.credential?.kind === 'ssh-key')
/** A key that a file holds can be read there. */
const readable = computed(() => isKey.value && (props.credential?.locations ?? 0) > 0)

async function act(what: string, does: (path: { id: number }) => Promise<string>): Promise<void> {
  said.value = ''
  await work(what, async () => {
    said.value = await does({ id: props.credential?.id ?? (await passwordOf(props.account ?? 0)) })
    mode.value = ''
  })
  given.value = ''
  emit('changed')
}
const take = () =>
  act('take', async (path) => {
    const v = await data(
      api.POST('/api/v1/credentials/{id}/custody', { params: { path }, body: given.value ? { value: given.value } : {} }),
    )
    return isKey.value ? `In custody: ${v.credential.words ?? ''}.` : 'In custody: the authority accepted the value just now.'
  })
const reset = () =>
  act('reset', async (path) => {
    await data(api.POST('/api/v1/credentials/{id}/custody', { params: { path }, body: { reset: true, reason: reason.value } }))
    return 'Reset: a new value is sealed and in force.'
  })
const verify = () =>
  act('verify', async (path) => {
    const v = await data(api.POST('/api/v1/credentials/{id}/custody/verify', { params: { path } }))
    if (!v.accepted) throw new Problem('Refused: ' + v.words, 0)
    return isKey.value ? v.words + '.' : 'The authority accepts the sealed value.'
  })
const release = () =>
  act('release', async (path) => {
    await data(api.POST('/api/v1/credentials/{id}/custody/release', { params: { path }, body: { reason: reason.value } }))
    return 'Released: the sealed values are removed.'
  })
const submit = () => (mode.value === 'give' ? take() : mode.value === 'reset' ? reset() : release())
const words = computed(() => ({
  not: !isKey.value
    ? 'Not in custody: Moss Ledger does not keep its password. Give the known one, which is verified at once, or let it be reset.'
    : readable.value
      ? 'Not in custody. It can be read from a file that holds it; signing in at the accounts that it opens proves it at once.'
      : 'Not in custody. No file that was read holds it: paste its private half, which is proven at once.',
  give: isKey.value ? 'Paste the private half' : kept.value ? 'Give a new known password' : 'Take into custody',
  submit: mode.value === 'give' ? (isKey.value ? 'Take and prove' : 'Take and verify') : mode.value === 'reset' ? 'Reset it' : 'Release it',
}))

function putAway() {
  mode.value = ''
  given.value = ''
}
</script>

<template>
  <div class="panel">
    <p v-if="kept" class="first">
      In custody since <When :at="kept.taken" /> (by {{ kept.taken_by }}). Verified <When :at="kept.verified" />:
      <StateTag :state="kept.verdict" /> <span class="soft">{{ kept.words }}</span><template v-if="kept.rotated">
        Rotated <When :at="kept.rotated" />.</template
      >
    </p>
    <p v-else class="first soft">{{ words.not }}</p>
    <Trouble :words="trouble" />
    <p v-if="said" role="status">{{ said }}</p>
    <div v-if="session.may('operator')" class="row">
      <template v-if="!mode">
        <Button v-if="kept" :loading="busy === 'verify'" @click="verify">Verify now</Button>
        <Button v-if="!kept && readable" type="primary" :loading="busy === 'take'" @click="take">Take into custody</Button>
        <Button v-if="!kept || !isKey" :type="kept || readable ? 'default' : 'primary'" @click="mode = 'give'">{{ words.give }}</Button>
        <Button v-if="!isKey" @click="mode = 'reset'">Reset</Button>
        <Button v-if="kept" @click="mode = 'release'">Release</Button>
      </template>
      <form v-else class="row" @submit.prevent="submit">
        <span v-if="mode === 'reset'">Sets a new password now. Whatever still holds the old one breaks at its next sign-in.</span>
        <span v-if="mode === 'release'"
          >Removes the sealed values.
          {{ isKey ? 'Where the key is held it stays as it is.' : 'Nobody here will know the password any more.' }}</span
        >
        <textarea
          v-if="mode === 'give' && isKey"
          v-model="given"
          class="field wide mono"
          rows="5"
          required
          autocomplete="off"
          spellcheck="false"
          aria-label="Private key in PEM"
          placeholder="The private key, in PEM"
        />
        <input
          v-else-if="mode === 'give'"
          v-model="given"
          class="field"
          type="password"
          required
          autocomplete="off"
          aria-label="Known password"
          placeholder="Known password"
        />
        <input v-else v-model="reason" class="field wide" required aria-label="Reason" placeholder="Reason (recorded)" />
        <Button type="primary" :danger="mode !== 'give'" html-type="submit" :loading="busy !== ''">{{ words.submit }}</Button>
        <Button @click="putAway">Cancel</Button>
      </form>
    </div>
  </div>
</template>

<style scoped>
.first {
  margin-top: 0;
}
.wide {
  min-width: 300px;
}
</style>
