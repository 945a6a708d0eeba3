<script setup lang="ts">
import { Collapse, CollapsePanel, List, ListItem } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import { local, moment } from './words'

const props = defineProps<{ explanation: Schemas['Explanation'] }>()
const weak = ['ruled out', 'not known']
const strong = computed(() => props.explanation.causes.filter((c) => !weak.includes(c.verdict)))
const others = computed(() =>
  weak
    .map((verdict) => ({ verdict, causes: props.explanation.causes.filter((c) => c.verdict === verdict) }))
    .filter((g) => g.causes.length),
)
const columns = [
  { key: 'time', title: t('ledger.time'), width: 140 },
  { key: 'record', title: t('why.record'), width: 120 },
  { key: 'words', title: t('ledger.words'), content: 'text' as const },
]
</script>

<template>
  <List v-if="strong.length" size="small" :data-source="strong">
    <template #renderItem="{ item: c }">
      <ListItem class="cause">
        <div class="row">
          <StateTag :state="c.verdict" /> <b>{{ c.title }}</b>
        </div>
        <div v-for="e in c.evidence" :key="e" class="break">{{ e }}</div>
        <div v-if="c.next_step" class="soft">{{ t('why.next', { what: c.next_step }) }}</div>
      </ListItem>
    </template>
  </List>
  <p v-else class="soft">{{ t('why.nothing') }}</p>
  <Collapse v-if="others.length || explanation.records.length" ghost>
    <CollapsePanel v-for="g in others" :key="g.verdict" :header="`${g.verdict}: ${g.causes.length}`">
      <div v-for="c in g.causes" :key="c.code">
        <b>{{ c.title }}</b> <span class="soft">{{ c.evidence.join('; ') }}</span>
      </div>
    </CollapsePanel>
    <CollapsePanel v-if="explanation.records.length" key="records" :header="t('why.records', explanation.records.length)">
      <PlainTable :label="t('why.recordsLabel')" :columns="columns" :rows="explanation.records" :row-key="(_, i) => i" :size="20">
        <template #time="{ row }"
          ><span class="keep" :title="moment(row.time)">{{ local(row.time) }}</span></template
        >
        <template #record="{ row }">{{ row.code || row.source }}</template>
        <template #words="{ row }"
          >{{ row.words }}<span v-if="row.by" class="soft"> ({{ row.by }})</span></template
        >
      </PlainTable>
    </CollapsePanel>
  </Collapse>
</template>

<style scoped>
.cause {
  display: block;
  padding: 6px 0 !important;
}
</style>
