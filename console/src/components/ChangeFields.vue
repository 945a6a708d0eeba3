<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import When from './When.vue'

/** What differs, field by field. */
defineProps<{ change: Schemas['SeenChange'] }>()
type Field = Schemas['Field']
const columns = [
  { key: 'name', title: t('changes.field'), content: 'word' as const },
  { key: 'from', title: t('changes.from'), content: 'text' as const },
  { key: 'to', title: t('changes.to'), content: 'text' as const },
]
const key = (f: Field) => f.name
const isMoment = (text?: string) => /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ$/.test(text ?? '')
const list = (f: Field) => !!(f.added?.length || f.removed?.length)
</script>

<template>
  <PlainTable
    :label="t('changes.fields')"
    :columns="columns"
    :rows="change.fields"
    :row-key="key"
    :empty="t(`changes.nothing.${change.what}`)"
  >
    <template #from="{ row }"
      ><template v-if="list(row)"
        ><div v-for="one of row.removed ?? []" :key="one" class="break">− {{ one }}</div></template
      ><span v-else class="break" :class="{ soft: !row.from }"
        ><When v-if="isMoment(row.from)" :at="row.from!" /><template v-else>{{ row.from || t('changes.none') }}</template></span
      ></template
    >
    <template #to="{ row }"
      ><template v-if="list(row)"
        ><div v-for="one of row.added ?? []" :key="one" class="break">+ {{ one }}</div></template
      ><span v-else class="break" :class="{ soft: !row.to }"
        ><When v-if="isMoment(row.to)" :at="row.to!" /><template v-else>{{ row.to || t('changes.none') }}</template></span
      ></template
    >
  </PlainTable>
</template>
