<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import { lasting } from './words'

/** An attempt to reach a system, stage by stage. */
defineProps<{ stages: Schemas['StageResult'][] }>()
const columns = [
  { key: 'stage', title: t('systems.stage'), width: 100 },
  { key: 'result', title: t('fields.result'), width: 90 },
  { key: 'took', title: t('fields.took'), width: 80 },
  { key: 'detail', title: t('systems.found'), content: 'text' as const },
]
</script>

<template>
  <PlainTable :label="t('systems.attempt')" :columns="columns" :rows="stages" :row-key="(s) => s.stage" :empty="t('systems.notTried')">
    <template #result="{ row }"><StateTag :state="row.ok ? 'ok' : 'failed'" /></template>
    <template #took="{ row }">{{ lasting(row.took / 1e6) }}</template>
    <template #detail="{ row }"
      >{{ row.detail }}
      <div v-if="row.next" class="soft">{{ row.next }}</div></template
    >
  </PlainTable>
</template>
