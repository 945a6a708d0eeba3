<script setup lang="ts">
import { Alert } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import When from './When.vue'
import { never } from './words'

/** What a policy would do to the credentials of now. */
defineProps<{ preview: Schemas['PolicyPreview'] }>()
const columns = [
  { key: 'credential', title: t('policies.credential'), content: 'name' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'was', title: t('policies.was'), content: 'system' as const },
  { key: 'becomes', title: t('policies.becomes'), content: 'system' as const },
  { key: 'next', title: t('policies.next'), content: 'time' as const },
]
</script>

<template>
  <section class="preview" role="status">
    <p>
      {{ t('policies.decidesFor', preview.decides) }} {{ t('policies.gains', preview.gains) }}
      <template v-if="preview.loses">{{ t('policies.loses', preview.loses) }}</template>
      {{
        t(preview.openings ? 'policies.turns' : 'policies.turnsByEnds', {
          often: preview.often,
          openings: preview.openings,
          most: preview.most,
        })
      }}
    </p>
    <Alert v-for="w in preview.warnings" :key="w" type="warning" show-icon :message="w" />
    <PlainTable
      :label="t('policies.effects')"
      :columns="columns"
      :rows="preview.rows"
      :row-key="(r, i) => `${r.credential}-${i}`"
      :size="50"
      :empty="t('policies.noEffects')"
    >
      <template #was="{ row }"
        ><span v-if="row.was">{{ row.was }}</span
        ><span v-else class="soft">{{ t('policies.none') }}</span></template
      >
      <template #becomes="{ row }"
        ><span v-if="row.becomes">{{ row.becomes }}</span
        ><span v-else class="soft">{{ t('policies.none') }}</span></template
      >
      <template #next="{ row }"><When v-if="!never(row.next)" :at="row.next" /></template>
    </PlainTable>
  </section>
</template>

<style scoped>
.preview {
  margin-top: 16px;
  display: grid;
  gap: 8px;
}
</style>
