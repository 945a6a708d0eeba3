<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateTag from './StateTag.vue'

defineProps<{ tie: Schemas['Tie'] }>()
</script>

<template>
  <span :title="tie.detail"><StateTag :state="`${tie.evidence}: ${tie.strength}`" :as="tie.strength" /></span>
</template>
