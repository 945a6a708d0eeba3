<script setup lang="ts">
import { Modal } from 'ant-design-vue'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks before something with a name is removed. */
const props = defineProps<{ title: string; words?: string; remove: () => Promise<unknown>; said: string }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const { busy, trouble, work } = useWork()
const go = () =>
  work('remove', async () => {
    await props.remove()
    emit('done', props.said)
  })
</script>

<template>
  <Modal
    open
    :title="title"
    :ok-text="t('do.remove')"
    :cancel-text="t('do.notNow')"
    :ok-button-props="{ danger: true, loading: busy === 'remove' }"
    @ok="go"
    @cancel="emit('close')"
  >
    <Trouble :words="trouble" />
    <p v-if="words">{{ words }}</p>
    <slot />
  </Modal>
</template>
