<script setup lang="ts" generic="T extends object">
import { Button } from 'ant-design-vue'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { onChanged } from '../api/changes'
import type { ListQuery, Page } from '../api/client'
import { operators, readFilter, useListing, writeFilter, type Column } from './listing'
import Trouble from './Trouble.vue'

const props = defineProps<{
  label: string
  columns: Column[]
  fetch: (query: ListQuery) => Promise<Page<T>>
  rowKey: (row: T) => string | number
  empty: string
  searchHint?: string
  size?: number
}>()

const l = useListing<T>(props.fetch, props.size)
onChanged(() => void l.load(true))
defineExpose({ reload: () => l.load(true) })

const adding = ref(false)
const shownColumns = computed(() => props.columns.filter((c) => !c.filterOnly))
const fields = computed(() => props.columns.filter((c) => c.field))
const draft = ref({ field: '', operator: '~', value: '' })
const text = ref(l.search())
let timer: number | undefined
watch(text, (value) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => l.change({ q: value || undefined }), 250)
})
onBeforeUnmount(() => window.clearTimeout(timer))

function add(): void {
  if (!draft.value.field || draft.value.value === '') return
  l.change({ f: [...l.filters(), writeFilter(draft.value)] })
  draft.value = { field: '', operator: '~', value: '' }
  adding.value = false
}

function drop(filter: string): void {
  l.change({ f: l.filters().filter((f) => f !== filter) })
}

function words(filter: string): string {
  const f = readFilter(filter)
  if (!f) return filter
  const title = props.columns.find((c) => c.field === f.field)?.title ?? f.field
  return `${title} ${operators.find((o) => o.value === f.operator)?.text ?? f.operator} ${f.value}`
}

function order(column: Column): 'ascending' | 'descending' | 'none' {
  if (l.sort() === column.field) return 'ascending'
  return l.sort() === '-' + column.field ? 'descending' : 'none'
}

const first = computed(() => l.cursors.value.length * l.size + 1)

function plain(row: unknown, key: string) {
  return (row as Record<string, unknown>)[key]
}
</script>

<template>
  <div class="panel">
    <div class="row spread bar">
      <div class="row">
        <input v-model="text" class="field search" type="search" :aria-label="`Search ${label}`" :placeholder="searchHint ?? 'Search'" />
        <span v-for="f in l.filters()" :key="f" class="chip"
          >{{ words(f) }}<button class="plain-button" :aria-label="`Remove the filter ${words(f)}`" @click="drop(f)">×</button></span
        >
        <Button v-if="!adding" size="small" @click="adding = true">Filter</Button>
        <form v-else class="row" @submit.prevent="add">
          <select v-model="draft.field" class="field" aria-label="Column to filter by">
            <option value="" disabled>Column</option>
            <option v-for="c in fields" :key="c.key" :value="c.field">{{ c.title }}</option>
          </select>
          <select v-model="draft.operator" class="field" aria-label="How to compare">
            <option v-for="o in operators" :key="o.value" :value="o.value">{{ o.text }}</option>
          </select>
          <input v-model="draft.value" class="field" aria-label="Value to compare with" placeholder="value" />
          <Button size="small" type="primary" html-type="submit">Add</Button>
          <Button size="small" @click="adding = false">Cancel</Button>
        </form>
      </div>
      <div class="row"><slot name="actions" /></div>
    </div>
    <Trouble :words="l.trouble.value" retry @again="l.load()" />
    <div class="scroll" tabindex="0" role="region" :aria-label="label">
      <table class="dense" :aria-busy="l.loading.value">
        <caption class="visually-hidden">
          {{
            label
          }}
        </caption>
        <thead>
          <tr>
            <th v-for="c in shownColumns" :key="c.key" :style="{ width: c.width }" :aria-sort="c.field ? order(c) : undefined" scope="col">
              <button v-if="c.field" class="plain-button" @click="l.sortBy(c.field)">
                {{ c.title }}<span aria-hidden="true">{{ order(c) === 'ascending' ? ' ↑' : order(c) === 'descending' ? ' ↓' : '' }}</span>
              </button>
              <template v-else>{{ c.title }}</template>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in l.items.value" :key="rowKey(row)">
            <td v-for="c in shownColumns" :key="c.key" :class="{ mono: c.mono, long: c.long }">
              <slot v-if="$slots[c.key]" :name="c.key" :row="row" /><template v-else>{{ plain(row, c.key) }}</template>
            </td>
          </tr>
          <tr v-if="!l.items.value.length && !l.trouble.value">
            <td :colspan="shownColumns.length" class="empty soft">
              {{ l.loading.value ? 'Loading…' : l.filters().length || l.search() ? 'Nothing matches these filters.' : empty }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="row spread foot">
      <span class="soft">{{
        l.items.value.length ? `${first}–${first + l.items.value.length - 1} of ${l.total.value}${l.more.value ? ' or more' : ''}` : ''
      }}</span>
      <div v-if="l.total.value > l.items.value.length" class="row">
        <Button size="small" :disabled="!l.cursors.value.length" @click="l.back">Previous</Button>
        <Button size="small" :disabled="!l.next.value" @click="l.forward">Next</Button>
      </div>
    </div>
  </div>
</template>

<style scoped>
.bar {
  margin-bottom: 8px;
}
.search {
  width: 230px;
}
.chip {
  background: var(--plain-bg);
  border-radius: 4px;
  padding: 2px 8px;
  display: inline-flex;
  gap: 7px;
  overflow-wrap: anywhere;
}
.scroll {
  overflow-x: auto;
}
.empty {
  padding: 26px 0;
  text-align: center;
}
.foot {
  margin-top: 8px;
  min-height: 24px;
}
th button:hover {
  text-decoration: underline;
}
</style>
