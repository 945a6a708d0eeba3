<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'
import { moment } from './words'
import { useWork } from './work'

/** When an account and what proves it end, and the way to change that. */
const { account, name, system, kind } = defineProps<{ account: number; name: string; system: string; kind: string }>()
const EndForm = defineAsyncComponent(() => import('./EndForm.vue'))
const session = useSession()
const rows = ref<Schemas['Life'][]>([])
const changing = ref(false)
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    rows.value = (await data(api.GET('/api/v1/accounts/{id}/lives', { params: { path: { id: account } } }))) ?? []
  })
void load()
onChanged(() => void load())
const may = computed(() => session.may('operator') || session.may('administrator'))
const columns = [
  { key: 'what', title: t('ends.whatTitle'), content: 'word' as const, width: 120 },
  { key: 'left', title: t('ends.left'), content: 'text' as const, width: 200 },
  { key: 'at', title: t('ends.at'), content: 'time' as const, width: 170 },
  { key: 'changed', title: t('ends.changed'), content: 'time' as const, width: 150 },
  { key: 'used', title: t('keys.used'), content: 'time' as const, width: 150 },
  { key: 'outlives', title: t('ends.outlives'), content: 'text' as const },
]
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <section class="panel">
    <PlainTable :label="t('ends.ofAccount')" :columns="columns" :rows="rows" :row-key="(_, i) => i" :empty="t('ends.empty')">
      <template #what="{ row }"
        >{{ t(`ends.what.${row.what}`) }}
        <div v-if="row.what === 'membership' || row.what === 'right'" class="soft">{{ row.name }}</div>
        <div v-if="row.key_id" class="soft mono">{{ row.key_id.slice(0, 12) }}</div></template
      >
      <template #left="{ row }"
        >{{ row.left }}
        <div v-for="m in row.made" :key="m.amendment_id" class="soft" :title="m.reason">
          {{ t(`ends.acts.${m.act}`) }}{{ m.until ? `: ${m.until}` : '' }}, <When :at="m.at" />,
          <RouterLink :to="`/amendments/${m.amendment_id}`">{{ m.by }}</RouterLink>
        </div></template
      >
      <template #changed="{ row }"><When :at="row.changed || row.born" /></template>
      <template #used="{ row }"><When :at="row.last_used" /></template>
      <template #outlives="{ row }">{{ row.outlives.join('; ') }}</template>
      <template #at="{ row }">{{ moment(row.at) }}</template>
    </PlainTable>
    <p class="soft">{{ t('ends.itself') }}</p>
    <Button v-if="may" @click="changing = true">{{ t('ends.change') }}</Button>
  </section>
  <EndForm v-if="changing" :of="{ account_id: account, name, system, system_kind: kind, what: 'account' }" @close="changing = false" />
</template>
