<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import When from './When.vue'

/** The latest rotations of an account or a credential. */
defineProps<{ rotations: Schemas['Rotation'][] }>()
const columns = [
  { key: 'id', title: t('rotations.one'), width: 90 },
  { key: 'result', title: t('fields.result'), content: 'system' as const },
  { key: 'by', title: t('fields.by'), content: 'word' as const },
  { key: 'started', title: t('fields.started'), content: 'time' as const },
  { key: 'reason', title: t('fields.reason'), content: 'text' as const },
]
</script>

<template>
  <PlainTable :label="t('rotations.history')" :columns="columns" :rows="rotations" :row-key="(r) => r.id" :empty="t('rotations.never')">
    <template #id="{ row }"
      ><RouterLink :to="`/rotations/${row.id}`">{{ row.id }}</RouterLink></template
    >
    <template #result="{ row }"><StateTag :state="row.result || row.mode" :as="row.result || `mode-${row.mode}`" /></template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #started="{ row }"><When :at="row.started" /></template>
  </PlainTable>
</template>
