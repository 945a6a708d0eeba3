<script setup lang="ts">
import { SettingOutlined } from '@ant-design/icons-vue'
import { Button, CheckboxGroup, Popover } from 'ant-design-vue'
import { computed } from 'vue'
import { t } from '../texts'
import type { Column } from './listing'

/** Which columns a person sees of a list; the first one names the thing and stays. */
const props = defineProps<{ columns: Column[] }>()
const chosen = defineModel<string[]>({ required: true })
const emit = defineEmits<{ reset: [] }>()
const options = computed(() =>
  props.columns.filter((c) => !c.filterOnly).map((c, i) => ({ value: c.key, label: c.title || c.key, disabled: i === 0 })),
)
</script>

<template>
  <Popover trigger="click" placement="bottomRight">
    <Button size="small" :aria-label="t('lists.columns')" :title="t('lists.columns')"><SettingOutlined aria-hidden="true" /></Button>
    <template #content>
      <div class="chooser">
        <b>{{ t('lists.columns') }}</b>
        <CheckboxGroup v-model:value="chosen" :options="options" class="boxes" />
        <Button size="small" @click="emit('reset')">{{ t('lists.columnsReset') }}</Button>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.chooser {
  display: grid;
  gap: 10px;
}
.boxes {
  display: grid;
  gap: 4px;
  max-height: 50vh;
  overflow-y: auto;
}
</style>
