<script setup lang="ts">
import { Checkbox, Form, FormItem, Modal, Select } from 'ant-design-vue'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Rehearses what a charter would change, and shows what came of it. */
const props = defineProps<{ charter: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const { busy, trouble, work } = useWork()
const excess = ref(false)
const onFailure = ref<'undo' | 'stop' | 'continue'>('undo')
const choices = [
  { value: 'undo', label: t('amendments.undoIt') },
  { value: 'stop', label: t('amendments.stopIt') },
  { value: 'continue', label: t('amendments.goIt') },
]
const rehearse = () =>
  work('rehearse', async () => {
    const states: ('missing' | 'forbidden' | 'excess')[] = excess.value ? ['missing', 'forbidden', 'excess'] : ['missing', 'forbidden']
    const v = await data(api.POST('/api/v1/amendments', { body: { charter: props.charter, states, on_failure: onFailure.value } }))
    void router.push(`/amendments/${v.id}`)
  })
</script>

<template>
  <Modal
    open
    :title="t('amendments.rehearse')"
    :ok-text="t('amendments.rehearse')"
    :cancel-text="t('do.notNow')"
    :confirm-loading="busy === 'rehearse'"
    @ok="rehearse"
    @cancel="emit('close')"
  >
    <p>{{ t('amendments.rehearseAsk') }}</p>
    <Form layout="vertical">
      <FormItem
        ><Checkbox v-model:checked="excess">{{ t('amendments.alsoExcess') }}</Checkbox></FormItem
      >
      <FormItem :label="t('amendments.onFailure')" html-for="amend-on-failure"
        ><Select id="amend-on-failure" v-model:value="onFailure" :options="choices"
      /></FormItem>
    </Form>
    <Trouble :words="trouble" />
  </Modal>
</template>
