<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'

/** What a charter would come to for the accounts of now. */
const props = defineProps<{ preview: Schemas['CharterPreview'] }>()
const columns = [
  { key: 'state', title: t('charters.state'), content: 'state' as const, width: 116 },
  { key: 'account', title: t('accounts.name'), content: 'name' as const, width: 130 },
  { key: 'item', title: t('charters.what'), content: 'text' as const },
]
const words = computed(() => {
  const p = props.preview
  if (!p.label) return t('charters.previewNoLabel')
  if (!p.accounts) return t('charters.previewNone', { label: p.label })
  return t('charters.previewFor', p.accounts) + (p.looked < p.accounts ? ' ' + t('charters.previewLooked', { n: p.looked }) : '')
})
</script>

<template>
  <h2>{{ t('charters.preview') }}</h2>
  <p role="status">{{ words }}</p>
  <PlainTable
    v-if="preview.accounts"
    :label="t('charters.preview')"
    :columns="columns"
    :rows="preview.lines"
    :row-key="(_, i) => i"
    :size="12"
    :empty="t('charters.noLines')"
  >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #account="{ row }"
      >{{ row.account }} <span class="soft">{{ row.system }}</span></template
    >
    <template #item="{ row }"
      >{{ row.item }}<span v-if="row.why" class="soft"> · {{ row.why }}</span></template
    >
  </PlainTable>
</template>
