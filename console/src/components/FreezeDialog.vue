<script setup lang="ts">
import { Form, FormItem, Input, Modal } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks why, and freezes everything. */
const emit = defineEmits<{ close: [] }>()
const reason = ref('')
const { busy, trouble, work } = useWork()
const freeze = () =>
  work('freeze', async () => {
    await data(api.PUT('/api/v1/freeze', { body: { reason: reason.value } }))
    emit('close')
  })
</script>

<template>
  <Modal
    open
    :title="t('freeze.title')"
    :ok-text="t('freeze.freeze')"
    :cancel-text="t('do.notNow')"
    :ok-button-props="{ danger: true, loading: busy === 'freeze', disabled: !reason.trim() }"
    @ok="freeze"
    @cancel="emit('close')"
  >
    <p>{{ t('freeze.what') }}</p>
    <Form layout="vertical"
      ><FormItem :label="t('fields.whyRecorded')" html-for="freeze-reason"
        ><Input id="freeze-reason" v-model:value="reason" :maxlength="500" @press-enter="reason.trim() && freeze()" /></FormItem
    ></Form>
    <Trouble :words="trouble" />
  </Modal>
</template>
