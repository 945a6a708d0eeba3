<script setup lang="ts">
import { Button, Drawer } from 'ant-design-vue'
import { t } from '../texts'

/** A row in full, beside its list; arrow keys walk to the rows around it. */
defineProps<{ title: string; open: boolean; first: boolean; last: boolean }>()
const emit = defineEmits<{ walk: [by: number]; close: [] }>()
</script>

<template>
  <Drawer :open="open" :width="460" :mask="false" :title="title" @close="emit('close')">
    <template #extra>
      <Button size="small" type="text" :disabled="first" :aria-label="t('lists.rowBefore')" @click="emit('walk', -1)">↑</Button>
      <Button size="small" type="text" :disabled="last" :aria-label="t('lists.rowAfter')" @click="emit('walk', 1)">↓</Button>
    </template>
    <div tabindex="-1" @keydown.down.prevent="emit('walk', 1)" @keydown.up.prevent="emit('walk', -1)"><slot /></div>
  </Drawer>
</template>
