<script setup lang="ts">
import { ago, moment } from './words'
import { now } from './clock'

defineProps<{ at?: string }>()
</script>

<template>
  <time v-if="at && !at.startsWith('0001')" :datetime="at" :title="moment(at)">{{ ago(at, now) }}</time>
</template>
