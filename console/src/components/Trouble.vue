<script setup lang="ts">
import { Alert, Button } from 'ant-design-vue'
import { computed } from 'vue'
import { t } from '../texts'

/** A failure in the service's words; where they name a system, the way to it. */
const props = defineProps<{ words?: string; retry?: boolean; kind?: 'error' | 'warning' }>()
defineEmits<{ again: [] }>()
const place = computed(() => {
  const system = /system "([^"]+)"/.exec(props.words ?? '')?.[1]
  return system ? { to: `/systems/${encodeURIComponent(system)}`, name: system } : undefined
})
</script>

<template>
  <Alert v-if="words" class="trouble" :type="kind ?? 'error'" show-icon role="alert">
    <template #message
      ><span class="break">{{ words }}</span
      >{{ ' ' }}<RouterLink v-if="place" :to="place.to">{{ t('do.show', { name: place.name }) }}</RouterLink></template
    >
    <template v-if="retry" #action
      ><Button size="small" @click="$emit('again')">{{ t('do.again') }}</Button></template
    >
  </Alert>
</template>

<style scoped>
.trouble {
  margin: 8px 0;
}
</style>
