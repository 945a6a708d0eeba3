<script setup lang="ts">
import { Alert, Button, Form, FormItem, Input, InputPassword, Modal, Textarea } from 'ant-design-vue'
import { t } from '../texts'
import Trouble from './Trouble.vue'

/** Asks for a value, or for the reason of an act on one. What is typed is the caller's, who forgets it. */
defineProps<{
  mode: 'give' | 'reset' | 'release'
  isKey: boolean
  title: string
  does: string
  warning: string
  trouble: string
  busy: boolean
}>()
const given = defineModel<string>('given', { required: true })
const reason = defineModel<string>('reason', { required: true })
defineEmits<{ submit: []; close: [] }>()
</script>

<template>
  <Modal open :title="title" :footer="null" destroy-on-close @cancel="$emit('close')">
    <Alert v-if="warning" type="warning" show-icon :message="warning" class="warning" />
    <Trouble :words="trouble" />
    <Form :model="{}" layout="vertical" @finish="$emit('submit')">
      <FormItem v-if="mode === 'give' && isKey" :label="t('custody.pem')" html-for="custody-key"
        ><Textarea id="custody-key" v-model:value="given" :rows="6" class="mono" autocomplete="off" spellcheck="false"
      /></FormItem>
      <FormItem v-else-if="mode === 'give'" :label="t('custody.known')" html-for="custody-password"
        ><InputPassword id="custody-password" v-model:value="given" autocomplete="off"
      /></FormItem>
      <FormItem v-else :label="t('fields.reason')" html-for="custody-reason"
        ><Input id="custody-reason" v-model:value="reason" :placeholder="t('fields.reasonRecorded')" :maxlength="500"
      /></FormItem>
      <div class="row">
        <Button
          type="primary"
          :danger="mode !== 'give'"
          html-type="submit"
          :loading="busy"
          :disabled="mode === 'give' ? !given : !reason"
          >{{ does }}</Button
        >
        <Button @click="$emit('close')">{{ t('do.cancel') }}</Button>
      </div>
    </Form>
  </Modal>
</template>

<style scoped>
.warning {
  margin-bottom: 12px;
}
</style>
