<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import { lasting } from './words'

/** How long dependents stood still in a rotation, beside what was expected. */
defineProps<{ list: Schemas['Interruption'][] }>()
const columns = [
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'place', title: t('orders.place'), content: 'text' as const },
  { key: 'milliseconds', title: t('run.stoodStill'), content: 'word' as const, width: 140 },
  { key: 'expected', title: t('run.expected'), content: 'word' as const, width: 140 },
]
</script>

<template>
  <PlainTable
    :label="t('run.interruptions')"
    :columns="columns"
    :rows="list"
    :row-key="(i) => `${i.system}/${i.place}`"
    :empty="t('run.noInterruptions')"
  >
    <template #milliseconds="{ row }">{{ lasting(row.milliseconds) }}</template>
    <template #expected="{ row }"
      ><template v-if="row.expected">{{ lasting(row.expected) }}</template
      ><span v-else class="soft">{{ t('run.notMeasured') }}</span></template
    >
  </PlainTable>
</template>
