<script setup lang="ts">
import { Modal } from 'ant-design-vue'
import { useRouter } from 'vue-router'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks for something that is rehearsed as an amendment, and goes to what came of it. Nothing is changed by that. */
const {
  ready = true,
  verb = '',
  failed = '',
  rehearse,
} = defineProps<{
  title: string
  /** What it does, in a sentence or two. */
  lead: string
  /** What the button says; to rehearse by default. */
  verb?: string
  /** All is filled in that is needed. */
  ready?: boolean
  rehearse: () => Promise<Schemas['Amendment']>
  /** What went wrong before. */
  failed?: string
}>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const { busy, trouble, work } = useWork()
const begin = () =>
  work('rehearse', async () => {
    const made = await rehearse()
    await router.push(`/amendments/${made.id}`)
  })
</script>

<template>
  <Modal
    open
    :title="title"
    :ok-text="verb || t('ends.rehearse')"
    :cancel-text="t('do.notNow')"
    :confirm-loading="busy === 'rehearse'"
    :ok-button-props="{ disabled: !ready }"
    @ok="begin"
    @cancel="emit('close')"
  >
    <p>{{ lead }}</p>
    <slot />
    <Trouble :words="trouble || failed" />
  </Modal>
</template>
