<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import When from './When.vue'

/** Who a change may have been made by, as the system's own log tells. */
defineProps<{ witnesses: Schemas['Witnesses'] }>()
type Witness = Schemas['Witness']
const columns = [
  { key: 'who', title: t('changes.who'), content: 'text' as const },
  { key: 'act', title: t('changes.act'), content: 'text' as const },
  { key: 'last', title: t('changes.last'), content: 'time' as const },
]
const key = (_: Witness, i: number) => i
</script>

<template>
  <h3>{{ t('changes.byWhom') }}</h3>
  <PlainTable
    :label="t('changes.byWhom')"
    :columns="columns"
    :rows="witnesses.list"
    :row-key="key"
    :empty="witnesses.sparse ? t('changes.notTold') : t('changes.nobody')"
  >
    <template #who="{ row }"
      ><strong v-if="row.it" class="break">{{ row.who || t('changes.somebody') }}</strong
      ><span v-else class="break">{{ row.who }}</span>
      <span v-if="row.from" class="soft break"> {{ t('changes.fromWhere', { from: row.from }) }}</span></template
    >
    <template #act="{ row }"
      >{{ row.it ? t(`changes.did.${row.act}`) : t('changes.wasThere') }}
      <span v-if="row.count > 1" class="soft">{{ t('changes.times', { n: row.count }) }}</span></template
    >
    <template #last="{ row }"><When :at="row.last" /></template>
  </PlainTable>
  <p v-if="witnesses.more" class="soft">{{ t('changes.moreWitnesses', { n: witnesses.more }) }}</p>
  <p v-if="witnesses.back" class="soft">{{ t('changes.goesBack') }} <When :at="witnesses.back" /></p>
  <p class="soft">{{ witnesses.sparse ? t('changes.sparseWhy') : t('changes.thereWhy') }}</p>
</template>
