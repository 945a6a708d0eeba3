<script setup lang="ts">
import { List, ListItem } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'
import StepWhy from './StepWhy.vue'
import { isWrong } from './waves'

/** Steps one under the other, with the words of each. */
type Step = { index: number; kind: string; title: string; words?: string; status: string }
defineProps<{ steps: (Schemas['StepNow'] | Step)[] }>()
const why = (s: Step): Schemas['StepNow'] | undefined => (running.includes(s.kind) && 'needs' in s ? (s as Schemas['StepNow']) : undefined)
const running = ['stop', 'restart', 'prove', 'revive']
</script>

<template>
  <List
    size="small"
    :data-source="steps"
    :row-key="(s: Step) => s.index"
    :pagination="steps.length > 100 ? { pageSize: 100, size: 'small', showSizeChanger: false } : false"
  >
    <template #renderItem="{ item: s }">
      <ListItem class="step" :class="s.status">
        <span class="number">{{ s.index + 1 }}</span>
        <span class="what"
          >{{ s.title }}<span v-if="s.words" class="soft words">{{ s.words }}</span
          ><StepWhy v-if="isWrong(s) && why(s)" :step="why(s)!"
        /></span>
        <StateTag :state="s.status" />
      </ListItem>
    </template>
  </List>
</template>

<style scoped>
.step {
  align-items: flex-start;
  justify-content: flex-start;
  gap: 8px;
  padding: 5px 4px !important;
}
.number {
  color: var(--soft);
  text-align: right;
  min-width: 26px;
}
.what {
  flex: 1;
  min-width: 0;
  overflow-wrap: anywhere;
}
.words {
  display: block;
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
