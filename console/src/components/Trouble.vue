<script setup lang="ts">
import { Button } from 'ant-design-vue'

defineProps<{ words?: string; retry?: boolean }>()
defineEmits<{ again: [] }>()
</script>

<template>
  <div v-if="words" class="trouble" role="alert">
    <span class="break">{{ words }}</span>
    <Button v-if="retry" size="small" @click="$emit('again')">Try again</Button>
  </div>
</template>

<style scoped>
.trouble {
  background: var(--bad-bg);
  color: var(--bad);
  border-radius: 5px;
  padding: 8px 12px;
  margin: 8px 0;
  display: flex;
  gap: 12px;
  justify-content: space-between;
  align-items: center;
}
</style>
