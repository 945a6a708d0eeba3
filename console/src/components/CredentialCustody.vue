<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import { isPair, passwordOf } from './credentials'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import When from './When.vue'

/** Custody of a credential of any kind; without one, of the password of an account that nobody noted yet. */
const props = defineProps<{ credential?: Schemas['Credential']; account?: number }>()
const emit = defineEmits<{ changed: [] }>()
const CustodyDialog = defineAsyncComponent(() => import('./CustodyDialog.vue'))
const session = useSession()
const given = ref('')
const reason = ref('')
const mode = ref<'' | 'give' | 'reset' | 'release'>('')
const said = ref('')
const { busy, trouble, work } = useWork()

const kept = computed(() => (props.credential?.state === 'custody' ? props.credential : undefined))
const isKey = computed(() => isPair(props.credential?.kind))
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
    return isKey.value ? t('custody.takenKey', { words: v.credential.words ?? '' }) : t('custody.taken')
  })
const reset = () =>
  act('reset', async (path) => {
    await data(api.POST('/api/v1/credentials/{id}/custody', { params: { path }, body: { reset: true, reason: reason.value } }))
    return t('custody.wasReset')
  })
const verify = () =>
  act('verify', async (path) => {
    const v = await data(api.POST('/api/v1/credentials/{id}/custody/verify', { params: { path } }))
    if (v.code === 'rests') return v.words + '.'
    if (!v.accepted) throw new Problem(t('custody.refused', { words: v.words }), 0)
    return isKey.value ? v.words + '.' : t('custody.accepted')
  })
const release = () =>
  act('release', async (path) => {
    await data(api.POST('/api/v1/credentials/{id}/custody/release', { params: { path }, body: { reason: reason.value } }))
    return t('custody.released')
  })
const submit = () => (mode.value === 'give' ? take() : mode.value === 'reset' ? reset() : release())
const not = computed(() => (!isKey.value ? t('custody.not') : readable.value ? t('custody.notReadable') : t('custody.notKey')))
const give = computed(() => (isKey.value ? t('custody.pasteKey') : kept.value ? t('custody.giveNew') : t('custody.take')))
const does = computed(() =>
  mode.value === 'give'
    ? isKey.value
      ? t('custody.takeKey')
      : t('custody.takeVerify')
    : mode.value === 'reset'
      ? t('custody.resetDo')
      : t('custody.releaseDo'),
)
const title = computed(() => (mode.value === 'give' ? give.value : mode.value === 'reset' ? t('custody.reset') : t('custody.release')))
const warning = computed(() =>
  mode.value === 'reset'
    ? t('custody.resetWarn')
    : mode.value === 'release'
      ? t(isKey.value ? 'custody.releaseKeyWarn' : 'custody.releaseWarn')
      : '',
)

function putAway(): void {
  mode.value = ''
  given.value = ''
}
</script>

<template>
  <div>
    <p v-if="kept" class="first">
      {{ t('custody.since') }} <When :at="kept.taken" /> ({{ t('words.by') }} {{ kept.taken_by }}). {{ t('custody.verifiedAt') }}
      <When :at="kept.verified" />: <StateTag :state="kept.verdict" /> <span class="soft">{{ kept.words }}</span>
      <span v-if="kept.rotated" class="apart">{{ t('custody.rotatedAt') }} <When :at="kept.rotated" />.</span>
    </p>
    <p v-else class="first soft">{{ not }}</p>
    <Trouble v-if="!mode" :words="trouble" />
    <p v-if="said" role="status">{{ said }}</p>
    <div v-if="session.may('operator')" class="row">
      <Button v-if="kept" :loading="busy === 'verify'" @click="verify">{{ t('custody.verify') }}</Button>
      <Button v-if="!kept && readable" type="primary" :loading="busy === 'take'" @click="take">{{ t('custody.take') }}</Button>
      <Button v-if="!kept || !isKey" :type="kept || readable ? 'default' : 'primary'" @click="mode = 'give'">{{ give }}</Button>
      <Button v-if="!isKey" @click="mode = 'reset'">{{ t('custody.reset') }}</Button>
      <Button v-if="kept" @click="mode = 'release'">{{ t('custody.release') }}</Button>
    </div>
    <CustodyDialog
      v-if="mode"
      v-model:given="given"
      v-model:reason="reason"
      :mode="mode"
      :is-key="isKey"
      :title="title"
      :does="does"
      :warning="warning"
      :trouble="trouble"
      :busy="busy !== ''"
      @submit="submit"
      @close="putAway"
    />
  </div>
</template>

<style scoped>
.first {
  margin-top: 0;
}
.apart {
  margin-inline-start: 6px;
}
</style>
