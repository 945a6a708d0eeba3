<script setup lang="ts">
import { Result } from 'ant-design-vue'
import { t } from '../texts'
</script>

<template>
  <Result status="404" :title="t('missing.title')">
    <template #icon><span /></template>
    <template #extra
      ><RouterLink to="/">{{ t('missing.overview') }}</RouterLink></template
    >
  </Result>
</template>
