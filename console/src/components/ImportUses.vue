<script setup lang="ts">
import { Button, Modal, Progress, Upload } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** What a directory recorded of sign-ins, from a file: sent in parts, and never held here as a whole. */
const props = defineProps<{ system: string }>()
const emit = defineEmits<{ close: [] }>()
const atOnce = 5000
/** Records are shorter; a line that is longer is none, and the service would refuse the part that it stands in. */
const longest = 64 * 1024
const file = ref<File>()
const read = ref(0)
const took = ref({ uses: 0, bad: 0, lines: 0 })
const ended = ref(false)
const { busy, trouble, work } = useWork()
let stopped = false

function pick(chosen: File): boolean {
  file.value = chosen
  ended.value = false
  return false
}
async function send(lines: string[]): Promise<void> {
  if (!lines.length) return
  const answer = await data(api.POST('/api/v1/systems/{name}/uses', { params: { path: { name: props.system } }, body: { lines } }))
  took.value = { uses: took.value.uses + answer.uses, bad: took.value.bad + answer.bad, lines: took.value.lines + lines.length }
}
const run = () =>
  work('import', async () => {
    took.value = { uses: 0, bad: 0, lines: 0 }
    read.value = 0
    stopped = false
    const reader = file.value!.stream().getReader()
    const decoder = new TextDecoder()
    let rest = ''
    let waiting: string[] = []
    const keep = async (lines: string[]) => {
      for (const line of lines) {
        if (line.trim() && line.length <= longest) waiting.push(line)
        if (waiting.length === atOnce) await send(waiting.splice(0))
      }
    }
    for (;;) {
      const part = await reader.read()
      if (stopped) return void reader.cancel()
      if (part.done) break
      read.value += part.value.length
      const lines = (rest + decoder.decode(part.value, { stream: true })).split('\n')
      rest = lines.pop()!
      if (rest.length > longest) rest = rest.slice(0, longest + 1)
      await keep(lines)
    }
    await keep([rest + decoder.decode()])
    await send(waiting.splice(0))
    ended.value = true
  })
function close(): void {
  stopped = true
  emit('close')
}
const share = computed(() => (file.value?.size ? Math.min(100, Math.round((read.value * 100) / file.value.size)) : 0))
</script>

<template>
  <Modal open :title="t('useImport.title', { system })" :footer="null" @cancel="close">
    <p>{{ t('useImport.what') }}</p>
    <div class="row">
      <Upload :before-upload="pick as never" :show-upload-list="false" :disabled="!!busy" accept=".json,.jsonl,.log,.txt"
        ><Button :disabled="!!busy">{{ t('useImport.choose') }}</Button></Upload
      ><span v-if="file" class="break mono">{{ file.name }}</span>
    </div>
    <Progress v-if="busy || ended" :percent="share" :aria-label="t('useImport.progress')" />
    <p v-if="busy || ended" role="status">
      {{ t('useImport.took', { uses: took.uses, lines: took.lines }) }}
      <template v-if="took.bad">{{ t('useImport.bad', took.bad) }}</template>
    </p>
    <Trouble :words="trouble" />
    <div class="row acts">
      <Button type="primary" :loading="!!busy" :disabled="!file || ended" @click="run">{{ t('useImport.go') }}</Button><Button
        @click="close"
        >{{ busy ? t('useImport.stop') : t('do.close') }}</Button
      >
    </div>
  </Modal>
</template>

<style scoped>
.acts {
  margin-top: 14px;
}
</style>
