<script setup lang="ts">
import { Descriptions, DescriptionsItem } from 'ant-design-vue'
import { computed, useSlots } from 'vue'

/** What is known of a thing, a line each; a slot of a fact's key shows it otherwise. Facts without a value are left out. */
export interface Fact {
  key: string
  label: string
  value?: string | number
  mono?: boolean
  /** It has a slot, and is shown although it has no value. */
  always?: boolean
}
const props = defineProps<{ facts: Fact[]; wide?: boolean }>()
const slots = useSlots()
const shown = computed(() => props.facts.filter((f) => f.always || (f.value !== undefined && f.value !== '' && f.value !== 0)))
</script>

<template>
  <Descriptions :column="wide ? { xs: 1, sm: 1, md: 2 } : 1" size="small" :colon="false" class="facts" :label-style="{ width: '140px' }">
    <DescriptionsItem v-for="f in shown" :key="f.key" :label="f.label"
      ><span class="break" :class="{ mono: f.mono }"
        ><slot v-if="slots[f.key]" :name="f.key" /><template v-else>{{ f.value }}</template></span
      ></DescriptionsItem
    >
  </Descriptions>
</template>

<style scoped>
.facts :deep(.ant-descriptions-item) {
  padding-bottom: 3px;
}
.facts :deep(.ant-descriptions-item-label) {
  color: var(--soft);
  min-width: 140px;
}
</style>
