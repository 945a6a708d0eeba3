<script setup lang="ts">
import { Button, Input, Progress, Textarea } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { save } from '../lists/exporting'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** What an outsider needs to check the ledger: its signed checkpoint, all entries as lines, and checkpoints that were kept earlier. */
const checkpoint = ref<Schemas['Checkpoint']>()
const earlier = ref('')
const verification = ref<Schemas['Verification']>()
const share = ref(0)
const { busy, trouble, work } = useWork()
const load = async () => (checkpoint.value = await data(api.GET('/api/v1/ledger/checkpoint')))
void work('load', load)
const keep = () => save('ledger.checkpoint', 'text/plain', checkpoint.value!.checkpoint)
const held = () =>
  work('held', async () => {
    // A checkpoint ends with its signature; several may be pasted one after the other.
    const checkpoints = earlier.value
      .split(/\n(?=moss-ledger\n)/)
      .map((text) => text.trim() + '\n')
      .filter((text) => text !== '\n')
    verification.value = await data(api.POST('/api/v1/ledger/verify', { body: { checkpoints } }))
  })
/** The file that docs/ledger.md describes: a head with the checkpoint, then an entry a line. */
const exported = () =>
  work('export', async () => {
    const head = await load()
    const size = Number(head.checkpoint.split('\n')[1])
    const parts = [
      JSON.stringify({ format: 'moss-ledger-export-1', origin: 'moss-ledger', verifier: head.verifier, checkpoint: head.checkpoint }) +
        '\n',
    ]
    for (let from = 0; from < size;) {
      const { lines } = await data(api.GET('/api/v1/ledger/lines', { params: { query: { from, limit: Math.min(1000, size - from) } } }))
      if (!lines.length) throw new Error(t('ledger.short', { from, size }))
      parts.push(...lines)
      from += lines.length
      share.value = Math.round((100 * from) / size)
    }
    save('ledger.jsonl', 'application/jsonl', parts.join(''))
  })
</script>

<template>
  <Trouble :words="trouble" />
  <template v-if="checkpoint">
    <h2>{{ t('ledger.checkpoint') }}</h2>
    <p class="soft">{{ t('ledger.checkpointWhy') }}</p>
    <Textarea :value="checkpoint.checkpoint" :rows="6" readonly class="mono" :aria-label="t('ledger.checkpoint')" />
    <p>
      <Button @click="keep">{{ t('do.save') }}</Button>
    </p>
    <h2>{{ t('ledger.key') }}</h2>
    <p class="soft">{{ t('ledger.keyWhy') }}</p>
    <Input :value="checkpoint.verifier" readonly class="mono" :aria-label="t('ledger.key')" />
    <h2>{{ t('ledger.export') }}</h2>
    <p class="soft">{{ t('ledger.exportWhy') }}</p>
    <Progress v-if="busy === 'export'" :percent="share" :aria-label="t('ledger.export')" />
    <p>
      <Button :loading="busy === 'export'" @click="exported">{{ t('ledger.exportDo') }}</Button>
    </p>
  </template>
  <h2>{{ t('ledger.earlier') }}</h2>
  <p class="soft">{{ t('ledger.earlierWhy') }}</p>
  <Textarea v-model:value="earlier" :rows="6" class="mono" :aria-label="t('ledger.earlier')" />
  <p>
    <Button type="primary" :disabled="!earlier.trim()" :loading="busy === 'held'" @click="held">{{ t('ledger.hold') }}</Button>
  </p>
  <p v-if="verification" role="status" class="break">{{ verification.ok ? t('ledger.earlierHold') : verification.problems?.join('; ') }}</p>
</template>
