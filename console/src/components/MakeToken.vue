<script setup lang="ts">
import { Alert, Button, Form, FormItem, Input, Modal, TypographyParagraph } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A new token. It is shown once, here, and is gone with this dialog. */
const emit = defineEmits<{ made: []; close: [] }>()
const label = ref('')
const made = ref('')
const { busy, trouble, work } = useWork()
const make = () =>
  work('make', async () => {
    made.value = (await data(api.POST('/api/v1/tokens', { body: { label: label.value } }))).token
    label.value = ''
    emit('made')
  })
</script>

<template>
  <Modal open :title="t('tokens.make')" :footer="null" destroy-on-close @cancel="emit('close')">
    <Trouble :words="trouble" />
    <template v-if="made">
      <Alert type="warning" show-icon :message="t('tokens.once')" />
      <TypographyParagraph :copyable="{ text: made }" class="mono token">{{ made }}</TypographyParagraph>
      <Button @click="emit('close')">{{ t('do.close') }}</Button>
    </template>
    <Form v-else :model="{}" layout="vertical" @finish="make">
      <FormItem :label="t('tokens.for')" html-for="token-label"
        ><Input id="token-label" v-model:value="label" :maxlength="100" :placeholder="t('tokens.example')"
      /></FormItem>
      <p class="soft">{{ t('tokens.rights') }}</p>
      <Button type="primary" html-type="submit" :loading="busy === 'make'" :disabled="!label.trim()">{{ t('tokens.make') }}</Button>
    </Form>
  </Modal>
</template>

<style scoped>
.token {
  overflow-wrap: anywhere;
  margin: 12px 0;
}
</style>
