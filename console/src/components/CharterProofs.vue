<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { defineAsyncComponent, ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'
import CharterProof from './CharterProof.vue'
import { proofTone, proofWords } from './charters'
import StateTag from './StateTag.vue'
import When from './When.vue'

/** What was tried of a charter: which of its rights a job needs. */
const ProofForm = defineAsyncComponent(() => import('./ProofForm.vue'))
const props = defineProps<{ name: string }>()
const session = useSession()
type Proof = Schemas['CharterProof']
const columns: Column[] = [
  { key: 'id', title: t('fields.number'), field: 'id', content: 'number', compares: 'number', width: 84 },
  { key: 'verdict', title: t('proofs.verdict'), content: 'state', width: 190 },
  { key: 'account', title: t('proofs.account'), field: 'account', content: 'name' },
  { key: 'system', title: t('fields.system'), field: 'system', content: 'system' },
  { key: 'reason', title: t('proofs.reason'), field: 'reason', content: 'text' },
  { key: 'created_by', title: t('proofs.by'), field: 'created_by', content: 'name' },
  { key: 'created', title: t('proofs.at'), field: 'created', content: 'time', compares: 'time', optional: true },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/proofs', { params: { query } }))
const key = (p: Proof) => p.id
const trying = ref(false)
const said = ref('')
function begun(words: string): void {
  said.value = words
  trying.value = false
}
</script>

<template>
  <p>{{ t('proofs.lead') }}</p>
  <p v-if="said" role="status">{{ said }}</p>
  <p v-if="session.may('operator') || session.may('administrator')">
    <Button type="primary" @click="trying = true">{{ t('proofs.prove') }}</Button>
  </p>
  <ListPage
    name="proofs"
    :label="t('proofs.tab')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :always="[`charter=${props.name}`]"
    :empty="t('proofs.empty')"
  >
    <template #verdict="{ row }"><StateTag :state="proofWords(row)" :as="proofTone(row)" /></template>
    <template #created="{ row }"><When :at="row.created" /></template>
    <template #expanded="{ row }"><CharterProof :proof="row" /></template>
  </ListPage>
  <ProofForm v-if="trying" :charter="props.name" @done="begun" @close="trying = false" />
</template>
