<script setup lang="ts">
import { Button, Input, Select } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { t } from '../texts'
import { operatorKey, operatorsOf, writeFilter, type Column } from './listing'

/** One condition of a list: which column, how compared, with what. */
const props = defineProps<{ columns: Column[]; field?: string }>()
const emit = defineEmits<{ add: [filter: string]; cancel: [] }>()
const draft = ref({ field: props.field ?? '', operator: '', value: '' })
const fields = computed(() => props.columns.filter((c) => c.field).map((c) => ({ value: c.field!, label: c.title })))
const column = computed(() => props.columns.find((c) => c.field === draft.value.field))
const compare = computed(() => operatorsOf(column.value).map((value) => ({ value, label: t(operatorKey(value, column.value?.compares)) })))
const values = computed(() => {
  const all = column.value?.compares === 'yes' ? ['true', 'false'] : column.value?.values
  return all?.map((value) => ({ value, label: column.value?.compares === 'yes' ? t(value === 'true' ? 'lists.yes' : 'lists.no') : value }))
})
watch(
  () => draft.value.field,
  () => {
    draft.value.operator = compare.value[0]?.value ?? '='
    draft.value.value = values.value ? '' : draft.value.value
  },
  { immediate: true },
)
const ready = computed(() => draft.value.field !== '' && draft.value.value !== '')
function add(): void {
  if (ready.value) emit('add', writeFilter(draft.value))
}
</script>

<template>
  <form class="filter" @submit.prevent="add">
    <Select
      v-if="!field"
      v-model:value="draft.field"
      show-search
      option-filter-prop="label"
      :options="fields"
      :aria-label="t('lists.filterColumn')"
      class="field"
    />
    <Select v-model:value="draft.operator" :options="compare" :aria-label="t('lists.filterCompare')" class="field" />
    <Select v-if="values" v-model:value="draft.value" :options="values" :aria-label="t('lists.filterValue')" class="field" />
    <Input
      v-else
      v-model:value="draft.value"
      :aria-label="t('lists.filterValue')"
      :placeholder="column?.compares === 'time' ? t('lists.moment') : t('lists.value')"
      class="field"
    />
    <div class="row">
      <Button type="primary" size="small" html-type="submit" :disabled="!ready">{{ t('lists.add') }}</Button>
      <Button size="small" @click="emit('cancel')">{{ t('do.cancel') }}</Button>
    </div>
  </form>
</template>

<style scoped>
.filter {
  display: grid;
  gap: 8px;
  width: 230px;
}
.field {
  width: 100%;
}
</style>
