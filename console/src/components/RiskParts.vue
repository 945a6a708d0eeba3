<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'

/** What a score is the product of: the parts of each side with their points. */
const props = defineProps<{ risk: Schemas['Risk'] }>()
const rows = computed(() => props.risk.parts.map((p) => ({ ...p, side: t(`risks.${p.side}`) })))
const columns = [
  { key: 'side', title: t('risks.side'), content: 'word' as const },
  { key: 'points', title: t('risks.points'), content: 'number' as const, width: 80 },
  { key: 'what', title: t('charters.what'), content: 'text' as const },
  { key: 'why', title: t('charters.why'), content: 'text' as const },
]
</script>

<template>
  <p>{{ t('risks.product', { power: risk.power, weakness: risk.weakness, score: risk.score }) }}</p>
  <PlainTable :label="t('risks.parts')" :columns="columns" :rows="rows" :row-key="(_, i) => i" />
</template>
