<script setup lang="ts" generic="T extends object">
import { FilterFilled } from '@ant-design/icons-vue'
import { Button, Empty, Popover, Select, Skeleton, Table } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref, useSlots } from 'vue'
import { onChanged } from '../api/changes'
import type { ListQuery, Page } from '../api/client'
import { dense } from '../state/appearance'
import { personal } from '../state/personal'
import { t } from '../texts'
import Trouble from '../components/Trouble.vue'
import ColumnChooser from './ColumnChooser.vue'
import ExportMenu from './ExportMenu.vue'
import FilterBar from './FilterBar.vue'
import FilterForm from './FilterForm.vue'
import { useBeside } from './beside'
import { useListing, widths, type Column } from './listing'
import SavedViews from './SavedViews.vue'

const props = defineProps<{
  /** Names the list: for what is kept per person, and for files. */
  name: string
  label: string
  columns: Column[]
  fetch: (query: ListQuery) => Promise<Page<T>>
  rowKey: (row: T) => string | number
  empty: string
  searchHint?: string
  size?: number
  /** Conditions that a switch of the page sets, besides the filters of people. */
  always?: string[]
  /** Rows that one may choose; none are without it. */
  selectable?: (row: T) => boolean
}>()
const RowDrawer = defineAsyncComponent(() => import('./RowDrawer.vue'))
const chosen = defineModel<Map<string | number, T>>('chosen', { default: () => new Map() })
const slots = useSlots()
const perPage = personal('rows', 50)
const pageSize = computed(() => props.size ?? perPage.value)
const l = useListing<T>(props.fetch, pageSize, () => props.always ?? [])
onChanged(() => void l.load(true))
defineExpose({ reload: () => l.load(true), query: l.query })

const normal = computed(() => props.columns.filter((c) => !c.filterOnly && !c.optional).map((c) => c.key))
const kept = personal<string[]>(`columns-${props.name}`, [])
const keys = computed({
  get: () => (kept.value.length ? kept.value : normal.value),
  set: (to) => (kept.value = to),
})
const shown = computed(() => props.columns.filter((c, i) => !c.filterOnly && (i === 0 || keys.value.includes(c.key))))

const filtering = ref('')
function add(filter: string): void {
  l.change({ f: [...l.filters(), filter] })
  filtering.value = ''
}
const drop = (filter: string): void => l.change({ f: l.filters().filter((f) => f !== filter) })

const widthOf = (c: Column) => c.width ?? widths[c.content ?? 'word']
const sortOf = (c: Column): 'ascend' | 'descend' | null => (l.sort() === c.field ? 'ascend' : l.sort() === '-' + c.field ? 'descend' : null)
function turn(c: Column): void {
  l.change({ sort: l.sort() === c.field ? '-' + c.field : l.sort() === '-' + c.field ? undefined : c.field })
}
const tableColumns = computed(() =>
  shown.value.map((c, i) => ({
    key: c.key,
    title: c.title,
    dataIndex: c.key,
    width: c.content === 'text' || (c.content === 'name' && i > 0) ? undefined : widthOf(c),
    align: c.content === 'number' ? ('right' as const) : undefined,
    ellipsis: c.content !== 'acts',
    customCell: c.content === 'place' ? () => ({ class: 'mono' }) : undefined,
    customHeaderCell: () => ({
      'aria-sort': c.field ? { ascend: 'ascending', descend: 'descending', none: 'none' }[sortOf(c) ?? 'none'] : undefined,
      scope: 'col',
    }),
    of: c,
  })),
)
const least = computed(() => shown.value.reduce((sum, c) => sum + widthOf(c), props.selectable ? 40 : 0))

const selection = computed(() =>
  props.selectable
    ? {
        selectedRowKeys: [...chosen.value.keys()],
        preserveSelectedRowKeys: true,
        columnWidth: 40,
        getCheckboxProps: (row: T) => ({ disabled: !props.selectable!(row) }),
        onSelect: (row: T, on: boolean) => choose([row], on),
        onSelectAll: (on: boolean, _: T[], changed: T[]) => choose(changed, on),
      }
    : undefined,
)
function choose(rows: T[], on: boolean): void {
  const next = new Map(chosen.value)
  for (const row of rows)
    if (on) next.set(props.rowKey(row), row)
    else next.delete(props.rowKey(row))
  chosen.value = next
}

const { beside, at, walk, line } = useBeside<T>(l.items, props.rowKey, () => !!slots.beside)

const first = computed(() => l.cursors.value.length * pageSize.value + 1)
const count = computed(() => {
  const n = l.items.value.length
  if (!n) return ''
  const all = l.total.value.toLocaleString('en')
  return t(l.more.value ? 'lists.countMore' : 'lists.count', { from: first.value, to: first.value + n - 1, all })
})
const plain = (row: unknown, key: string) => (row as Record<string, unknown>)[key]
const nothing = computed(() => (l.filters().length || l.search() ? t('lists.nothingMatches') : props.empty))
const sizes = [25, 50, 100, 200].map((value) => ({ value, label: t('lists.rows', { n: value }) }))
</script>

<template>
  <section class="panel list">
    <div class="row spread bar">
      <FilterBar
        :label="label"
        :columns="columns"
        :filters="l.filters()"
        :search="l.search()"
        :search-hint="searchHint"
        @add="add"
        @drop="drop"
        @search="(q) => l.change({ q: q || undefined })"
        ><slot name="switches"
      /></FilterBar>
      <div class="row">
        <slot name="actions" />
        <SavedViews :list="name" :columns="shown.map((c) => c.key)" @columns="(k) => (keys = k)" />
        <ExportMenu :name="name" :fetch="fetch" :query="l.query" />
        <ColumnChooser v-model="keys" :columns="columns" @reset="keys = []" />
      </div>
    </div>
    <div v-if="chosen.size" class="row bulk" role="status">
      <b>{{ t('lists.chosen', chosen.size) }}</b>
      <slot name="bulk" :rows="[...chosen.values()]" />
      <Button size="small" type="text" @click="chosen = new Map()">{{ t('lists.chooseNone') }}</Button>
    </div>
    <Trouble :words="l.trouble.value" retry @again="l.load()" />
    <Skeleton
      v-if="!l.loaded.value && l.loading.value"
      active
      :title="false"
      :paragraph="{ rows: 8, width: '100%' }"
      :aria-label="t('lists.loading')"
    />
    <Table
      v-else-if="l.items.value.length"
      :columns="tableColumns as never"
      :data-source="l.items.value as never"
      :row-key="rowKey as never"
      :pagination="false"
      :scroll="{ x: least }"
      :size="dense ? 'small' : 'middle'"
      :custom-row="line as never"
      :row-selection="selection as never"
      :loading="l.loading.value"
      :data-choose-all="t('lists.chooseAll')"
      table-layout="fixed"
      sticky
    >
      <template #headerCell="{ column }">
        <span class="head">
          <button
            v-if="(column as never as { of?: Column }).of?.field"
            type="button"
            class="plain-button"
            @click="turn((column as never as { of: Column }).of)"
          >
            {{ column.title
            }}<span aria-hidden="true">{{
              { ascend: ' ↑', descend: ' ↓', none: '' }[sortOf((column as never as { of: Column }).of) ?? 'none']
            }}</span>
          </button>
          <template v-else-if="typeof column.title === 'string'">{{ column.title }}</template>
          <span v-else class="visually-hidden">{{ t('lists.details') }}</span>
          <Popover
            v-if="(column as never as { of?: Column }).of?.field"
            :open="filtering === column.key"
            trigger="click"
            placement="bottom"
            @open-change="(on: boolean) => (filtering = on ? String(column.key) : '')"
          >
            <Button type="text" size="small" class="funnel" :aria-label="t('lists.filterBy', { column: column.title })"
              ><FilterFilled aria-hidden="true"
            /></Button>
            <template #content
              ><FilterForm
                v-if="filtering === column.key"
                :columns="columns"
                :field="(column as never as { of: Column }).of.field"
                @add="add"
                @cancel="filtering = ''"
            /></template>
          </Popover>
        </span>
      </template>
      <template #bodyCell="{ column, record }">
        <slot v-if="$slots[String(column.key)]" :name="String(column.key)" :row="record as T" /><template v-else>{{
          plain(record, String(column.key))
        }}</template>
      </template>
      <template v-if="$slots.expanded" #expandedRowRender="{ record }"><slot name="expanded" :row="record as T" /></template>
    </Table>
    <Empty v-else-if="!l.trouble.value" :image="Empty.PRESENTED_IMAGE_SIMPLE">
      <template #description
        ><span class="nothing">{{ nothing }}</span></template
      >
      <Button v-if="l.filters().length || l.search()" @click="l.change({ f: undefined, q: undefined })">{{ t('lists.showAll') }}</Button>
      <slot v-else name="none" />
    </Empty>
    <div v-if="l.items.value.length" class="row spread foot">
      <span class="soft" role="status">{{ count }}</span>
      <div class="row">
        <Select
          v-if="!props.size && (l.total.value > 25 || l.cursors.value.length)"
          v-model:value="perPage"
          size="small"
          :options="sizes"
          :aria-label="t('lists.rowsLabel')"
        />
        <template v-if="l.next.value || l.cursors.value.length">
          <Button size="small" :disabled="!l.cursors.value.length" @click="l.back">{{ t('lists.previous') }}</Button>
          <Button size="small" :disabled="!l.next.value" @click="l.forward">{{ t('lists.next') }}</Button>
        </template>
      </div>
    </div>
    <RowDrawer
      v-if="$slots.beside && beside"
      :title="label"
      :first="at <= 0"
      :last="at >= l.items.value.length - 1"
      :open="at >= 0"
      @walk="walk"
      @close="beside = undefined"
      ><slot name="beside" :row="beside"
    /></RowDrawer>
  </section>
</template>

<style scoped>
.bar {
  margin-bottom: 10px;
  align-items: flex-start;
}
.bulk {
  background: var(--moss-bg);
  border-radius: 5px;
  padding: 5px 10px;
  margin-bottom: 8px;
}
.head {
  position: relative;
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 2px;
}
.head .plain-button {
  font-weight: 600;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.funnel {
  position: absolute;
  right: -6px;
  background: var(--panel);
  color: var(--soft);
  opacity: 0;
  padding: 0 3px;
  font-size: 11px;
}
th:hover .funnel,
.funnel:focus-visible {
  opacity: 1;
}
.foot {
  margin-top: 10px;
  min-height: 24px;
}
.nothing {
  color: var(--soft);
}
.list :deep(tr.beside > td) {
  background: var(--moss-bg);
}
</style>
