<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import { local, moment } from './words'

/** The journal of a rotation, the latest first; of one step when one is chosen. Where steps have `begun` something was written: it has only not come yet. */
const props = defineProps<{ journal: Schemas['JournalRecord'][]; step?: number; begun?: boolean }>()
defineEmits<{ all: [] }>()
const rows = computed(() => props.journal.filter((j) => props.step === undefined || j.step === props.step).reverse())
const empty = computed(() => (props.begun && !props.journal.length ? t('run.journalComes') : t('run.nothingYet')))
const columns = [
  { key: 'seq', title: t('fields.number'), width: 80 },
  { key: 'time', title: t('ledger.time'), width: 110 },
  { key: 'event', title: t('run.event'), width: 110 },
  { key: 'result', title: t('fields.result'), content: 'state' as const },
  { key: 'title', title: t('run.step'), content: 'place' as const },
  { key: 'words', title: t('ledger.words'), content: 'text' as const },
]
</script>

<template>
  <section class="panel">
    <p v-if="step !== undefined" class="row">
      {{ t('run.onlyStep', { n: step + 1 }) }} <Button size="small" @click="$emit('all')">{{ t('run.allSteps') }}</Button>
    </p>
    <PlainTable :label="t('run.journal')" :columns="columns" :rows="rows" :row-key="(j) => j.seq" :size="100" :empty="empty">
      <template #time="{ row }"
        ><span class="mono keep" :title="`${local(row.time)}\n${moment(row.time)}`">{{ row.time.slice(11, 23) }}</span></template
      >
      <template #event="{ row }">{{ row.event }}{{ row.undo ? ' ' + t('run.undoMark') : '' }}</template>
      <template #result="{ row }"><StateTag :state="row.result ?? ''" /></template>
      <template #words="{ row }"
        ><span class="soft">{{ [row.words, row.reason, row.actor].filter(Boolean).join(' · ') }}</span></template
      >
    </PlainTable>
  </section>
</template>
