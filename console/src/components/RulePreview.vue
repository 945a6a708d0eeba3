<script setup lang="ts">
import { Alert } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'

/** What a rule would do to the accounts of now. */
const props = defineProps<{ preview: Schemas['Preview'] }>()
type Effect = Schemas['Effect']
const columns = [
  { key: 'account', title: t('accounts.name'), content: 'name' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'becomes', title: t('rules.becomes'), content: 'state' as const },
  { key: 'label', title: t('rules.label'), content: 'word' as const },
  { key: 'means', title: t('rules.meansFor'), content: 'text' as const },
]
const takings = [
  { key: 'account', title: t('accounts.name'), content: 'name' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'becomes', title: t('rules.becomes'), content: 'state' as const },
  { key: 'words', title: t('rules.notTakenWhy'), content: 'text' as const },
]
const key = (e: Effect) => `${e.account_id} ${e.label}`
const more = computed(() => props.preview.gain + props.preview.lose - props.preview.rows.length)
</script>

<template>
  <div role="status" class="sums">
    <p>
      {{ t('rules.matches', preview.matches) }} <template v-if="preview.stops">{{ t('rules.stops', preview.stops) }}</template>
      {{ t('rules.effects', { gain: preview.gain, lose: preview.lose }) }}
    </p>
    <Alert v-if="preview.failed" type="warning" show-icon :message="t('rules.undecided')" :description="preview.failed" class="failed" />
  </div>
  <PlainTable :label="t('rules.preview')" :columns="columns" :rows="preview.rows" :row-key="key" :empty="t('rules.noEffect')" :size="20">
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.account_id}`">{{ row.account }}</RouterLink></template
    >
    <template #means="{ row }">{{ row.means.join('; ') }}</template>
    <template #becomes="{ row }"
      ><StateTag :state="row.gains ? t('rules.gains') : t('rules.loses')" :as="row.gains ? 'active' : 'stopped'"
    /></template>
  </PlainTable>
  <p v-if="more > 0" class="soft">{{ t('rules.more', more) }}</p>
  <template v-if="preview.takings.length">
    <p class="sums" role="status">{{ t('rules.takes', { n: preview.takes, not: preview.not_taken }) }}</p>
    <PlainTable :label="t('rules.takings')" :columns="takings" :rows="preview.takings" :row-key="(e) => e.account_id" :size="20">
      <template #account="{ row }"
        ><RouterLink :to="`/accounts/${row.account_id}`">{{ row.account }}</RouterLink></template
      >
      <template #becomes="{ row }"
        ><StateTag :state="row.takes ? t('rules.taken') : t('rules.notTaken')" :as="row.takes ? 'active' : 'plain'"
      /></template>
    </PlainTable>
  </template>
</template>

<style scoped>
.sums {
  margin-top: 14px;
}
.failed {
  margin-bottom: 10px;
}
</style>
