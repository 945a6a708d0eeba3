<script setup lang="ts">
import { Button, Drawer, Form, FormItem, Input } from 'ant-design-vue'
import { reactive } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import AccountSelect from './AccountSelect.vue'
import { passwordOf } from './credentials'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Two accounts of one system that shall take turns. */
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const form = reactive<{ working?: number; resting?: number; reason: string }>({ reason: '' })
const filter = ['custody=true', 'gone=']
const { busy, trouble, work } = useWork()
const save = () =>
  work('save', async () => {
    const working = await passwordOf(form.working ?? 0)
    const resting = await passwordOf(form.resting ?? 0)
    const v = await data(api.POST('/api/v1/tandems', { body: { working, resting, reason: form.reason } }))
    emit('done', t('tandems.saved', { one: v.working.account, other: v.resting.account }))
  })
</script>

<template>
  <Drawer open width="min(560px, 100vw)" :title="t('tandems.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="save">
      <p class="soft">{{ t('tandems.needs') }}</p>
      <FormItem :label="t('tandems.working')" :extra="t('tandems.workingHelp')"
        ><AccountSelect v-model="form.working" :label="t('tandems.working')" :filter="filter" :empty="t('assign.none')"
      /></FormItem>
      <FormItem :label="t('tandems.resting')" :extra="t('tandems.restingHelp')"
        ><AccountSelect v-model="form.resting" :label="t('tandems.resting')" :filter="filter" :empty="t('assign.none')"
      /></FormItem>
      <FormItem :label="t('fields.reason')" html-for="tandem-reason"
        ><Input id="tandem-reason" v-model:value="form.reason" :maxlength="1000"
      /></FormItem>
      <Trouble :words="trouble" />
      <Button html-type="submit" type="primary" :loading="busy === 'save'" :disabled="!form.working || !form.resting">{{
        t('tandems.add')
      }}</Button>
    </Form>
  </Drawer>
</template>
