<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { t } from '../texts'

/** Freezes everything, with a reason. */
const FreezeDialog = defineAsyncComponent(() => import('./FreezeDialog.vue'))
const open = ref(false)
</script>

<template>
  <Button @click="open = true">{{ t('freeze.freeze') }}</Button>
  <FreezeDialog v-if="open" @close="open = false" />
</template>
