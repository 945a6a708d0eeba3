<script setup lang="ts">
import { Alert } from 'ant-design-vue'
import { t } from '../texts'
import SystemLink from './SystemLink.vue'

/** Systems that were not read completely: there may be more than is shown. */
defineProps<{ systems: { system: string; why: string }[] }>()
const most = 8
</script>

<template>
  <Alert v-if="systems.length" type="warning" show-icon class="incomplete" :message="t('account.incomplete', systems.length)">
    <template #description
      ><div v-for="i in systems.slice(0, most)" :key="i.system"><SystemLink :name="i.system" />: {{ i.why }}</div>
      <div v-if="systems.length > most">{{ t('dependents.more', systems.length - most) }}</div></template
    >
  </Alert>
</template>

<style scoped>
.incomplete {
  margin-top: 10px;
}
</style>
