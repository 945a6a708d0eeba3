<script setup lang="ts">
import { Button, Form, FormItem, Textarea } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import SystemLink from './SystemLink.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Host keys of many hosts, approved by a list that somebody brought. */
const emit = defineEmits<{ done: [] }>()
const list = ref('')
const done = ref<Schemas['ListedKeys']>()
const { busy, trouble, work } = useWork()
const hold = () =>
  work('hold', async () => {
    done.value = await data(api.POST('/api/v1/systems/host-keys', { body: { known_hosts: list.value } }))
    emit('done')
  })
const columns = [
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'result', title: t('fields.result'), content: 'state' as const },
  { key: 'fingerprint', title: t('credentials.fingerprint'), content: 'place' as const },
  { key: 'words', title: t('ledger.words'), content: 'text' as const },
]
</script>

<template>
  <Form :model="{}" layout="vertical" @finish="hold">
    <FormItem :label="t('start.keysPaste')" html-for="known-hosts"
      ><Textarea id="known-hosts" v-model:value="list" :rows="8" class="mono" spellcheck="false"
    /></FormItem>
    <Trouble :words="trouble" />
    <Button type="primary" html-type="submit" :loading="busy === 'hold'" :disabled="!list.trim()">{{ t('start.keysDo') }}</Button>
  </Form>
  <template v-if="done">
    <h2>{{ t('start.result') }}</h2>
    <p v-for="u in done.unread" :key="u.line" class="soft">{{ t('systems.line') }} {{ u.line }}: {{ u.what }}</p>
    <PlainTable
      :label="t('start.result')"
      :columns="columns"
      :rows="done.systems"
      :row-key="(s) => s.system"
      :size="50"
      :empty="t('start.keysNone')"
    >
      <template #system="{ row }"><SystemLink :name="row.system" /></template>
      <template #result="{ row }"
        ><StateTag
          :state="row.result"
          :as="row.result === 'known' ? 'ok' : row.result === 'other key' ? 'failed' : row.result === 'waits' ? 'waiting' : row.result"
      /></template>
    </PlainTable>
  </template>
</template>
