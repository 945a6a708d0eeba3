<script setup lang="ts">
import { Tour } from 'ant-design-vue'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { t } from '../texts'

/** Shows somebody new where things are; offered on the first page, and at hand in the menu of the person. */
const emit = defineEmits<{ close: [] }>()
const at = ref(0)
const places = [
  ['estate', 'nav a[href="/dependents"]'],
  ['changes', 'nav a[href="/changes"]'],
  ['findings', 'nav a[href="/findings"]'],
  ['rotations', 'nav a[href="/rotations"]'],
  ['ledger', 'nav a[href="/ledger"]'],
  ['search', 'header .search'],
  ['live', 'header .live'],
] as const
/** Where there is no room for the menu, the words stand in the middle. */
const steps = computed(() =>
  places.map(([name, where]) => ({
    title: t(`around.${name}.title`),
    description: t(`around.${name}.words`),
    placement: where.startsWith('nav') ? ('right' as const) : ('bottom' as const),
    target: () => document.querySelector<HTMLElement>(where)!,
  })),
)

/** The keyboard stands on the way on; Escape leaves, and gives the keyboard back. */
const before = document.activeElement as HTMLElement | null
watch(
  at,
  async () => {
    await nextTick()
    window.setTimeout(() => document.querySelector<HTMLElement>('.ant-tour .ant-tour-next-btn')?.focus(), 60)
  },
  { immediate: true },
)
const pressed = (e: KeyboardEvent): void => {
  if (e.key === 'Escape') emit('close')
}
onMounted(() => window.addEventListener('keydown', pressed))
onBeforeUnmount(() => {
  window.removeEventListener('keydown', pressed)
  before?.focus()
})
</script>

<template>
  <Tour v-model:current="at" open :steps="steps as never" @close="emit('close')" @finish="emit('close')">
    <template #indicatorsRender
      ><span class="soft">{{ t('around.at', { n: at + 1, all: places.length }) }}</span></template
    >
  </Tour>
</template>
