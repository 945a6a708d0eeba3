<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import When from '../components/When.vue'
import type { Column } from '../lists/listing'
import { useDecided } from '../lists/decided'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const RuleForm = defineAsyncComponent(() => import('../components/RuleForm.vue'))
const RemoveRule = defineAsyncComponent(() => import('../components/RemoveRule.vue'))
type Rule = Schemas['Rule']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'label', title: t('rules.label'), field: 'label', content: 'system' },
  { key: 'excludes', title: t('rules.does'), field: 'excludes', content: 'state', compares: 'yes' },
  { key: 'matches', title: t('rules.count'), field: 'matches', content: 'number', compares: 'number' },
  { key: 'condition', title: t('rules.when'), field: 'condition', content: 'text' },
  { key: 'changed', title: t('rules.changed'), field: 'changed', content: 'time', compares: 'time' },
  { key: 'changed_by', title: t('fields.by'), field: 'changed_by', content: 'word', optional: true },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts' } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/rules', { params: { query } }))
const key = (r: Rule) => r.id
const { holds, said, open, of, going, begin, done } = useDecided<Rule, string>()
</script>

<template>
  <PageHead :title="t('places.rules')" :lead="t('rules.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('rules.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage :ref="holds" name="rules" :label="t('places.rules')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('rules.empty')">
    <template #label="{ row }"
      ><RouterLink :to="{ path: '/accounts', query: { f: `labels~${row.label}` } }">{{ row.label }}</RouterLink></template
    >
    <template #excludes="{ row }"
      ><StateTag :state="row.excludes ? t('rules.excludesShort') : t('rules.givesShort')" :as="row.excludes ? 'stopped' : 'active'"
    /></template>
    <template #condition="{ row }"
      ><span class="mono" :title="row.condition">{{ row.condition }}</span></template
    >
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #acts="{ row }">
      <div class="row">
        <Button size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button size="small" @click="going = row.name">{{ t('rules.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <RuleForm v-if="open" :of="of" @done="done" @close="open = false" />
  <RemoveRule v-if="going" :name="going" @done="done" @close="going = undefined" />
</template>
