<script setup lang="ts">
import { Checkbox, Form, FormItem, Select } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import RehearseDialog from './RehearseDialog.vue'

/** Rehearses what a charter would change, and shows what came of it. */
const props = defineProps<{ charter: string }>()
const emit = defineEmits<{ close: [] }>()
const excess = ref(false)
const onFailure = ref<'undo' | 'stop' | 'continue'>('undo')
const choices = [
  { value: 'undo', label: t('amendments.undoIt') },
  { value: 'stop', label: t('amendments.stopIt') },
  { value: 'continue', label: t('amendments.goIt') },
]
const rehearse = () => {
  const states: ('missing' | 'forbidden' | 'excess')[] = excess.value ? ['missing', 'forbidden', 'excess'] : ['missing', 'forbidden']
  return data(api.POST('/api/v1/amendments', { body: { charter: props.charter, states, on_failure: onFailure.value } }))
}
</script>

<template>
  <RehearseDialog
    :title="t('amendments.rehearse')"
    :verb="t('amendments.rehearse')"
    :lead="t('amendments.rehearseAsk')"
    :rehearse="rehearse"
    @close="emit('close')"
  >
    <Form layout="vertical">
      <FormItem
        ><Checkbox v-model:checked="excess">{{ t('amendments.alsoExcess') }}</Checkbox></FormItem
      >
      <FormItem :label="t('amendments.onFailure')" html-for="amend-on-failure"
        ><Select id="amend-on-failure" v-model:value="onFailure" :options="choices"
      /></FormItem>
    </Form>
  </RehearseDialog>
</template>
