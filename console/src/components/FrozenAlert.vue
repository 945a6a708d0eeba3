<script setup lang="ts">
import { Alert, Button, Input, Popover } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import { moment } from './words'

/** That everything is frozen, by whom and why, and the way to thaw it. */
const session = useSession()
defineProps<{ freeze: Schemas['Freeze'] }>()
const emit = defineEmits<{ thawed: [freeze: Schemas['Freeze']] }>()
const open = ref(false)
const reason = ref('')
const { busy, trouble, work } = useWork()
const thaw = () =>
  work('thaw', async () => {
    emit('thawed', await data(api.DELETE('/api/v1/freeze', { params: { query: { reason: reason.value } } })))
  })
</script>

<template>
  <Alert type="warning" banner show-icon role="status">
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
