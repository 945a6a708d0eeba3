<script setup lang="ts">
import { CheckOutlined, CloseOutlined, ExclamationOutlined, QuestionOutlined } from '@ant-design/icons-vue'
import { Tag } from 'ant-design-vue'
import { computed } from 'vue'
import { tone } from './words'

/** A state as icon and word, never by colour alone. What is not known has an edge of its own. */
const props = defineProps<{ state: string; as?: string }>()
const colour = computed(() => tone(props.as ?? props.state))
const icons = { good: CheckOutlined, warn: ExclamationOutlined, bad: CloseOutlined, unknown: QuestionOutlined, plain: undefined }
</script>

<template>
  <Tag v-if="state" :bordered="false" class="tag" :class="`tone-${colour}`"
    ><component :is="icons[colour]" v-if="icons[colour]" aria-hidden="true" class="icon" />{{ state }}</Tag
  >
</template>

<style scoped>
.tag {
  margin: 0 6px 0 0;
  font-size: 12.5px;
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  vertical-align: middle;
}
.icon {
  font-size: 10px;
  margin-inline-end: 4px;
}
</style>
