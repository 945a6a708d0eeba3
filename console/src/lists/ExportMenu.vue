<script setup lang="ts" generic="T extends object">
import { DownloadOutlined } from '@ant-design/icons-vue'
import { Button, Popover } from 'ant-design-vue'
import { ref } from 'vue'
import { Problem, type ListQuery, type Page } from '../api/client'
import { t } from '../texts'
import { mostRows, useExport } from './exporting'

/** All that the filters show, as a file: not only this page. */
const props = defineProps<{ name: string; fetch: (query: ListQuery) => Promise<Page<T>>; query: () => ListQuery }>()
const open = ref(false)
const x = useExport<T>(props.fetch)
const words = ref('')

async function run(format: 'csv' | 'json'): Promise<void> {
  words.value = ''
  try {
    await x.run(props.name, format, props.query())
    words.value = x.trouble.value ? t('lists.exportCut', { n: mostRows.toLocaleString('en') }) : ''
    open.value = words.value !== ''
  } catch (e) {
    words.value = e instanceof Problem ? e.message : String(e)
  }
}
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight">
    <Button size="small"><DownloadOutlined aria-hidden="true" />{{ t('lists.export') }}</Button>
    <template #content>
      <div class="export">
        <template v-if="x.running.value">
          <span role="status">{{ t('lists.exportRead', x.read.value) }}</span><Button size="small" @click="x.stop()">{{
            t('do.stop')
          }}</Button>
        </template>
        <template v-else>
          <span class="soft">{{ t('lists.exportAll') }}</span>
          <div class="row">
            <Button size="small" @click="run('csv')">{{ 'CSV' }}</Button><Button size="small" @click="run('json')">{{ 'JSON' }}</Button>
          </div>
        </template>
        <span v-if="words" role="alert">{{ words }}</span>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.export {
  display: grid;
  gap: 8px;
  max-width: 260px;
}
</style>
