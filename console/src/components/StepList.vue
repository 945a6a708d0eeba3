<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'
import StepWhy from './StepWhy.vue'

defineProps<{ steps: Schemas['StepNow'][] }>()
const broken = ['failed', 'unclear', 'undo-failed', 'undo-unclear']
const running = ['stop', 'restart', 'prove', 'revive']
</script>

<template>
  <ol class="steps">
    <li v-for="s in steps" :key="s.index" :class="s.status">
      <span class="number">{{ s.index + 1 }}</span>
      <span class="what"
        >{{ s.title }}<span v-if="s.words" class="soft words">{{ s.words }}</span
        ><StepWhy v-if="broken.includes(s.status) && running.includes(s.kind)" :step="s"
      /></span>
      <StateTag :state="s.status" :as="s.status === 'doing' || s.status === 'undoing' ? 'unchecked' : s.status" />
    </li>
  </ol>
</template>

<style scoped>
.steps {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 30px 1fr max-content;
  gap: 6px;
  padding: 6px 4px;
  border-bottom: 1px solid var(--line);
  align-items: start;
}
.number {
  color: var(--soft);
  text-align: right;
  padding-right: 6px;
}
.words {
  display: block;
  overflow-wrap: anywhere;
  font-size: 13px;
}
.pending .what {
  color: var(--soft);
}
.doing,
.undoing {
  background: var(--warn-bg);
}
</style>
