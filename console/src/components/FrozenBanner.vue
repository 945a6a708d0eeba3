<script setup lang="ts">
import { Alert, Button, Input, Popover } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { onChanged } from '../api/changes'
import { useSession } from '../state/session'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import { moment } from './words'

/** Tells everybody while everything is frozen, and lets who may thaw it. */
const session = useSession()
const freeze = ref<Schemas['Freeze']>()
const load = () =>
  data(api.GET('/api/v1/freeze'))
    .then((v) => (freeze.value = v))
    .catch(() => undefined)
void load()
onChanged(() => void load())
const open = ref(false)
const reason = ref('')
const { busy, trouble, work } = useWork()
const thaw = () =>
  work('thaw', async () => {
    freeze.value = await data(api.DELETE('/api/v1/freeze', { params: { query: { reason: reason.value } } }))
    open.value = false
    reason.value = ''
  })
</script>

<template>
  <Alert v-if="freeze?.frozen" type="warning" banner show-icon role="status">
    <template #message
      >{{ t('freeze.banner', { who: freeze.by, when: moment(freeze.at ?? ''), why: freeze.reason }) }}
      <Popover v-if="session.may('operator') || session.may('administrator')" v-model:open="open" trigger="click" placement="bottom">
        <Button size="small">{{ t('freeze.thaw') }}</Button>
        <template #content>
          <form class="thaw" @submit.prevent="thaw">
            <Input v-model:value="reason" :placeholder="t('fields.whyRecorded')" :aria-label="t('fields.reason')" :maxlength="500" />
            <Trouble :words="trouble" />
            <Button type="primary" html-type="submit" :loading="busy === 'thaw'" :disabled="!reason.trim()">{{ t('freeze.thaw') }}</Button>
          </form>
        </template>
      </Popover></template
    >
  </Alert>
</template>

<style scoped>
.thaw {
  display: grid;
  gap: 8px;
  width: 260px;
}
</style>
