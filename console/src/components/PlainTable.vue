<script setup lang="ts" generic="T extends object">
import { Empty, Table } from 'ant-design-vue'
import { computed } from 'vue'
import { widths, type Content } from '../lists/listing'
import { dense } from '../state/appearance'

/** A few rows that are all there: for lists of the service see ListPage. */
const props = defineProps<{
  label: string
  columns: { key: string; title: string; content?: Content; width?: number }[]
  rows: T[]
  rowKey: (row: T, index: number) => string | number
  empty?: string
  size?: number
  high?: number
}>()
const all = computed(() =>
  props.columns.map((c) => ({
    key: c.key,
    dataIndex: c.key,
    title: c.title,
    width: c.width ?? (c.content === 'text' ? undefined : widths[c.content ?? 'word']),
    align: c.content === 'number' ? ('right' as const) : undefined,
    customCell: () => ({ class: c.content === 'place' ? 'mono wraps' : 'wraps' }),
    customHeaderCell: () => ({ scope: 'col' }),
  })),
)
const least = computed(() => props.columns.reduce((sum, c) => sum + (c.width ?? widths[c.content ?? 'word']), 0))
const keyed = computed(() => new Map(props.rows.map((row, i) => [row, props.rowKey(row, i)])))
const pages = computed(() =>
  props.size && props.rows.length > props.size
    ? { pageSize: props.size, size: 'small' as const, showSizeChanger: false }
    : (false as const),
)
const plain = (row: unknown, key: string) => (row as Record<string, unknown>)[key]
</script>

<template>
  <Table
    v-if="rows.length"
    :aria-label="label"
    :columns="all as never"
    :data-source="rows as never"
    :row-key="((row: T) => keyed.get(row) ?? '') as never"
    :pagination="pages"
    table-layout="fixed"
    :scroll="{ x: least, y: high }"
    :size="dense ? 'small' : 'middle'"
  >
    <template #bodyCell="{ column, record }">
      <slot v-if="$slots[String(column.key)]" :name="String(column.key)" :row="record as T" /><template v-else>{{
        plain(record, String(column.key))
      }}</template>
    </template>
    <template v-if="$slots.expanded" #expandedRowRender="{ record }"><slot name="expanded" :row="record as T" /></template>
  </Table>
  <Empty v-else :image="Empty.PRESENTED_IMAGE_SIMPLE">
    <template #description
      ><span class="soft">{{ empty }}</span></template
    >
  </Empty>
</template>
