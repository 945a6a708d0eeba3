<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'

/** How far a probe came, stage by stage, and what to look at next. */
defineProps<{ probe: Schemas['Probe'] }>()
const columns = [
  { key: 'stage', title: t('probes.stage'), content: 'word' as const, width: 110 },
  { key: 'milliseconds', title: t('probes.took'), content: 'number' as const, width: 90 },
  { key: 'words', title: t('probes.words'), content: 'text' as const },
]
</script>

<template>
  <p v-if="probe.next">
    <span class="soft">{{ t('probes.next') }}:</span> {{ probe.next }}
  </p>
  <p v-if="probe.between">
    <span class="soft">{{ t('probes.between') }}:</span> {{ probe.between }}
  </p>
  <PlainTable :label="t('probes.stages')" :columns="columns" :rows="probe.steps" :row-key="(_, i) => i" :empty="t('probes.noStage')" />
</template>
