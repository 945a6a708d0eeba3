<script setup lang="ts">
import { computed } from 'vue'
import { tone } from './words'

const props = defineProps<{ state: string; as?: string }>()
const colour = computed(() => tone(props.as ?? props.state))
</script>

<template>
  <span v-if="state" class="tag" :class="colour">{{ state }}</span>
</template>

<style scoped>
.tag {
  display: inline-block;
  border-radius: 4px;
  padding: 0 7px;
  font-size: 12.5px;
  line-height: 20px;
  white-space: nowrap;
}
.good {
  background: var(--good-bg);
  color: var(--good);
}
.warn {
  background: var(--warn-bg);
  color: var(--warn);
}
.bad {
  background: var(--bad-bg);
  color: var(--bad);
}
.plain {
  background: var(--plain-bg);
  color: var(--ink);
}
</style>
