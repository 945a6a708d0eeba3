<script setup lang="ts">
import { Button, Form, FormItem, Input, Modal } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Freezes everything, with a reason. */
const open = ref(false)
const reason = ref('')
const { busy, trouble, work } = useWork()
const freeze = () =>
  work('freeze', async () => {
    await data(api.PUT('/api/v1/freeze', { body: { reason: reason.value } }))
    open.value = false
    reason.value = ''
  })
</script>

<template>
  <Button @click="open = true">{{ t('freeze.freeze') }}</Button>
  <Modal
    v-if="open"
    open
    :title="t('freeze.title')"
    :ok-text="t('freeze.freeze')"
    :cancel-text="t('do.notNow')"
    :ok-button-props="{ danger: true, loading: busy === 'freeze', disabled: !reason.trim() }"
    @ok="freeze"
    @cancel="open = false"
  >
    <p>{{ t('freeze.what') }}</p>
    <Form layout="vertical"
      ><FormItem :label="t('fields.whyRecorded')" html-for="freeze-reason"
        ><Input id="freeze-reason" v-model:value="reason" :maxlength="500" @press-enter="reason.trim() && freeze()" /></FormItem
    ></Form>
    <Trouble :words="trouble" />
  </Modal>
</template>
