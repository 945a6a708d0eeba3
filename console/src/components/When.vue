<script setup lang="ts">
import { ago, local, moment, never } from './words'
import { now } from './clock'

defineProps<{ at?: string; whole?: boolean }>()
</script>

<template>
  <time v-if="at && !never(at)" :datetime="at" :title="`${local(at)}\n${moment(at)}`">{{ whole ? local(at) : ago(at, now) }}</time>
</template>
