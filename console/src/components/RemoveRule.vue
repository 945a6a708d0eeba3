<script setup lang="ts">
import { Modal } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import RulePreview from './RulePreview.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Which labels would go with a rule, before it goes. */
const props = defineProps<{ name: string }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const preview = ref<Schemas['Preview']>()
const { busy, trouble, work } = useWork()
void work('preview', async () => {
  preview.value = await data(api.POST('/api/v1/rules/preview', { body: { name: props.name, remove: true } }))
})
const remove = () =>
  work('remove', async () => {
    await data(api.DELETE('/api/v1/rules/{name}', { params: { path: { name: props.name }, query: { mark: preview.value!.mark } } }))
    emit('done', t('rules.removed', { name: props.name }))
  })
</script>

<template>
  <Modal
    open
    :width="680"
    :title="t('rules.removeAsk', { name })"
    :ok-text="t('rules.remove')"
    :cancel-text="t('do.notNow')"
    :ok-button-props="{ danger: true, disabled: !preview, loading: busy === 'remove' }"
    @ok="remove"
    @cancel="emit('close')"
  >
    <Trouble :words="trouble" />
    <RulePreview v-if="preview" :preview="preview" />
  </Modal>
</template>
