<script setup lang="ts">
import { Button, Form, FormItem, Input, InputNumber, Modal, Select } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A trace begins on one system, with an end that cannot be left out. */
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const form = reactive({ system: undefined as string | undefined, account: '', minutes: 30, reason: '' })
const systems = ref<{ value: string; label: string }[]>([])
const { busy, trouble, work } = useWork()
void work('systems', async () => {
  const page = await data(api.GET('/api/v1/systems', { params: { query: { sort: 'name', limit: 1000 } } }))
  systems.value = page.items.map((s) => ({ value: s.name, label: s.name }))
})
const start = () =>
  work('start', async () => {
    const made = await data(
      api.POST('/api/v1/traces', { body: { system: form.system!, account: form.account, minutes: form.minutes, reason: form.reason } }),
    )
    emit('done', t('traces.begun', { id: made.id, system: made.system }))
  })
</script>

<template>
  <Modal open :title="t('traces.start')" :footer="null" @cancel="emit('close')">
    <p class="soft">{{ t('traces.what') }}</p>
    <Form layout="vertical" :model="form" @finish="start">
      <FormItem :label="t('fields.system')" html-for="trace-system"
        ><Select id="trace-system" v-model:value="form.system" show-search :options="systems"
      /></FormItem>
      <FormItem :label="t('traces.onlyAccount')" html-for="trace-account"
        ><Input id="trace-account" v-model:value="form.account" :maxlength="253" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('traces.minutes')" html-for="trace-minutes"
        ><InputNumber id="trace-minutes" v-model:value="form.minutes" :min="1" :max="1440"
      /></FormItem>
      <FormItem :label="t('traces.reason')" html-for="trace-reason"
        ><Input id="trace-reason" v-model:value="form.reason" :maxlength="500" autocomplete="off"
      /></FormItem>
      <Trouble :words="trouble" />
      <Button
        type="primary"
        html-type="submit"
        :disabled="!form.system || !form.minutes || !form.reason.trim()"
        :loading="busy === 'start'"
        >{{ t('traces.start') }}</Button
      >
    </Form>
  </Modal>
</template>
