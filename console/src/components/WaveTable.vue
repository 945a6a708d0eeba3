<script setup lang="ts">
import { Table } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import { isWrong, wavesOf, type WaveRow } from './waves'
import { tone } from './words'

/** Systems as rows, waves from left to right, each step a cell that fills. */
const props = defineProps<{ steps: Schemas['StepNow'][] }>()
const chosen = defineModel<number>('chosen')
const waves = computed(() => wavesOf(props.steps))
const columns = computed(() => [
  { key: 'system', title: t('fields.system'), width: 140, fixed: 'left' as const, customHeaderCell: () => ({ scope: 'col' }) },
  ...Array.from({ length: waves.value.count }, (_, i) => ({
    key: String(i),
    title: String(i + 1),
    width: 62,
    customHeaderCell: () => ({ scope: 'col', title: t('run.wave', { n: i + 1 }) }),
  })),
])
const least = computed(() => 140 + waves.value.count * 62)
const signs: Record<string, string> = {
  done: '✓',
  later: '…',
  doing: '▸',
  undoing: '◂',
  undone: '↺',
  skipped: '–',
  waiting: '‖',
  failed: '✕',
  unclear: '?',
  pending: '·',
}
const sign = (status: string) => signs[status] ?? (status.startsWith('undo-') ? '✕' : '·')
const cells = (row: unknown, key: unknown) => (row as WaveRow).cells[Number(key)] ?? []
</script>

<template>
  <Table
    :columns="columns as never"
    :data-source="waves.rows as never"
    :row-key="((r: WaveRow) => r.system) as never"
    :pagination="waves.rows.length > 30 ? { pageSize: 30, size: 'small', showSizeChanger: false } : false"
    :scroll="{ x: least }"
    size="small"
    class="waves"
    :aria-label="t('run.waves')"
  >
    <template #bodyCell="{ column, record }">
      <template v-if="column.key === 'system'"
        ><RouterLink v-if="(record as WaveRow).system" :to="`/systems/${encodeURIComponent((record as WaveRow).system)}`">{{
          (record as WaveRow).system
        }}</RouterLink
        ><span v-else class="soft">{{ t('run.here') }}</span></template
      >
      <div v-else class="cell">
        <button
          v-for="s in cells(record, column.key)"
          :key="s.index"
          type="button"
          class="step"
          :class="[
            `tone-${isWrong(s) ? 'bad' : s.status === 'pending' ? 'pending' : tone(s.status)}`,
            { now: s.status === 'doing' || s.status === 'undoing' },
          ]"
          :aria-pressed="chosen === s.index"
          :title="`${s.index + 1}. ${s.title}: ${s.status}`"
          :aria-label="`${s.index + 1}. ${s.title}: ${s.status}`"
          @click="chosen = chosen === s.index ? undefined : s.index"
        >
          <span aria-hidden="true">{{ sign(s.status) }}</span>
        </button>
      </div>
    </template>
  </Table>
</template>

<style scoped>
.cell {
  display: flex;
  flex-wrap: wrap;
  gap: 2px;
}
.step {
  min-width: 24px;
  height: 24px;
  border-radius: 4px;
  border: 1px solid var(--line);
  cursor: pointer;
  font: 600 12px system-ui;
  padding: 0 4px;
}
.tone-pending {
  background: var(--panel);
  color: var(--soft);
}
.tone-bad {
  border-color: var(--bad);
}
.now {
  border: 2px solid var(--moss);
}
.step[aria-pressed='true'] {
  outline: 2px solid var(--moss);
  outline-offset: 1px;
}
.waves :deep(td) {
  padding: 3px 6px !important;
}
</style>
