<script setup lang="ts">
import { computed, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'

/** Accounts in rows, the things of a charter in columns. */
const props = defineProps<{ name: string }>()
const matrix = ref<Schemas['CharterMatrix']>()
const trouble = ref('')
async function load(): Promise<void> {
  try {
    matrix.value = await data(api.GET('/api/v1/charters/{name}/matrix', { params: { path: { name: props.name }, query: { limit: 500 } } }))
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
void load()
onChanged(() => void load())
type Row = Record<string, string | number>
const columns = computed(() => [
  { key: 'account', title: t('accounts.name'), content: 'name' as const, width: 200 },
  ...(matrix.value?.items ?? []).map((c, i) => ({
    key: `c${i}`,
    title: c.item,
    content: 'state' as const,
    width: 150,
  })),
  { key: 'beyond', title: t('charters.beyond'), content: 'number' as const, width: 92 },
])
const rows = computed<Row[]>(() =>
  (matrix.value?.rows ?? []).map((r) => ({
    account: r.account,
    id: r.account_id,
    system: r.system,
    beyond: r.beyond,
    ...Object.fromEntries(r.cells.map((s, i) => [`c${i}`, s as string])),
  })),
)
const cells = computed(() => (matrix.value?.items ?? []).map((_, i) => `c${i}`))
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <PlainTable
    v-if="matrix"
    :label="t('charters.matrixOf')"
    :columns="columns"
    :rows="rows"
    :row-key="(r) => r.id!"
    :size="50"
    :empty="t('charters.noMatrix')"
  >
    <template #account="{ row }"
      ><RouterLink :to="`/accounts/${row.id}?tab=rights`">{{ row.account }}</RouterLink>
      <span class="soft">{{ row.system }}</span></template
    >
    <template v-for="c in cells" :key="c" #[c]="{ row }"
      ><StateTag v-if="row[c]" :state="String(row[c])" /><span v-else class="soft" :title="t('charters.notHere')">–</span></template
    >
  </PlainTable>
  <p v-if="matrix?.more" class="soft">{{ t('charters.more', matrix.more) }}</p>
</template>
