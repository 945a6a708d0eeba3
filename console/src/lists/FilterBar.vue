<script setup lang="ts">
import { PlusOutlined } from '@ant-design/icons-vue'
import { Button, InputSearch, Popover, Tag } from 'ant-design-vue'
import { onBeforeUnmount, ref, watch } from 'vue'
import { t } from '../texts'
import FilterForm from './FilterForm.vue'
import { operatorKey, readFilter, type Column } from './listing'

/** The search of a list, and its filters as chips that read as sentences. */
const props = defineProps<{ label: string; columns: Column[]; filters: string[]; search: string; searchHint?: string }>()
const emit = defineEmits<{ add: [filter: string]; drop: [filter: string]; search: [text: string] }>()
const text = ref(props.search)
let timer: number | undefined
watch(text, (value) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => value !== props.search && emit('search', value), 250)
})
// The address is what counts: it may be changed by a view, or by going back.
watch(
  () => props.search,
  (now) => (text.value = now),
)
onBeforeUnmount(() => window.clearTimeout(timer))

const adding = ref(false)
function add(filter: string): void {
  adding.value = false
  emit('add', filter)
}
function words(filter: string): string {
  const f = readFilter(filter)
  if (!f) return filter
  const column = props.columns.find((c) => c.field === f.field)
  const value = column?.compares === 'yes' ? t(f.value === 'true' ? 'lists.yes' : 'lists.no') : f.value || t('lists.nothing')
  return `${column?.title ?? f.field} ${t(operatorKey(f.operator, column?.compares))} ${value}`
}
</script>

<template>
  <div class="row">
    <InputSearch
      v-model:value="text"
      class="search"
      allow-clear
      :aria-label="t('lists.search', { label })"
      :placeholder="searchHint ?? t('lists.searchHint')"
    />
    <Tag v-for="f in filters" :key="f" closable class="chip" @close.prevent="emit('drop', f)"
      >{{ words(f)
      }}<template #closeIcon
        ><span role="button" tabindex="0" :aria-label="t('lists.dropFilter', { words: words(f) })" @keydown.enter="emit('drop', f)"
          >×</span
        ></template
      ></Tag
    >
    <Popover v-model:open="adding" trigger="click" placement="bottomLeft">
      <Button size="small"><PlusOutlined aria-hidden="true" />{{ t('lists.filter') }}</Button>
      <template #content><FilterForm v-if="adding" :columns="columns" @add="add" @cancel="adding = false" /></template>
    </Popover>
    <slot />
  </div>
</template>

<style scoped>
.search {
  width: 250px;
}
.chip {
  white-space: normal;
  overflow-wrap: anywhere;
  margin: 0;
}
</style>
