<script setup lang="ts">
import { Alert } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import { never } from './words'
import When from './When.vue'

/** How much of a system's rights is known. */
defineProps<{ read: Schemas['RightsRead']; system: string }>()
</script>

<template>
  <Alert v-if="read.never" type="info" show-icon :message="t('rights.never', { system })" class="read" />
  <Alert v-else-if="read.why" type="warning" show-icon :message="t('rights.notAll', { system })" :description="read.why" class="read" />
  <p v-if="!never(read.whole)" class="soft read">{{ t('rights.wholeOn') }} <When :at="read.whole!" /></p>
  <p v-else-if="!read.never && !read.why" class="soft read">
    {{ t('rights.readOn', { system }) }} <When v-if="!never(read.completed)" :at="read.completed!" />
  </p>
</template>

<style scoped>
.read {
  margin-top: 12px;
}
</style>
