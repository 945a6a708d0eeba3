<script setup lang="ts">
import { Modal } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'

/** Of each policy, why it decides for an account or does not. */
defineProps<{ why: Schemas['Why'] }>()
const emit = defineEmits<{ close: [] }>()
const columns = [
  { key: 'policy', title: t('policies.policy'), content: 'name' as const },
  { key: 'precedence', title: t('policies.precedence'), content: 'number' as const },
  { key: 'because', title: t('policies.because'), content: 'text' as const },
]
</script>

<template>
  <Modal open :width="760" :title="t('policies.whyOf', { name: why.account })" :footer="null" @cancel="emit('close')">
    <p>{{ why.words }}</p>
    <p v-if="why.window">{{ t('policies.alsoPeople', { window: why.window }) }}</p>
    <PlainTable :label="t('places.policies')" :columns="columns" :rows="why.policies" :row-key="(p) => p.policy">
      <template #policy="{ row }"
        ><strong v-if="row.decides">{{ row.policy }}</strong
        ><template v-else>{{ row.policy }}</template></template
      >
    </PlainTable>
  </Modal>
</template>
