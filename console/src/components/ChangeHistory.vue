<script setup lang="ts">
import { ref, watch } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'

/** What became of one thing lately, and the way to all of it. */
const props = defineProps<{ of: 'account_id' | 'dependent_id' | 'system'; value: number | string }>()
type Change = Schemas['SeenChange']
const few = 20
const rows = ref<Change[]>([])
const more = ref(false)
const trouble = ref('')
const condition = () => `${props.of}=${props.value}`
async function load(): Promise<void> {
  try {
    const page = await data(api.GET('/api/v1/changes', { params: { query: { filter: [condition()], limit: few } } }))
    rows.value = page.items
    more.value = !!page.next
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  }
}
watch(() => props.value, load, { immediate: true })
onChanged(() => void load())
const columns = [
  { key: 'at', title: t('changes.seen'), content: 'time' as const },
  { key: 'what', title: t('changes.what'), content: 'state' as const },
  ...(props.of === 'system' ? [{ key: 'name', title: t('changes.name'), width: 200 }] : []),
  { key: 'words', title: t('changes.fields'), content: 'text' as const },
  { key: 'made_by', title: t('changes.madeBy'), content: 'system' as const },
]
const key = (c: Change) => c.id
</script>

<template>
  <section class="panel">
    <h2>{{ t('changes.lately') }}</h2>
    <Trouble :words="trouble" retry @again="load" />
    <PlainTable v-if="!trouble" :label="t('changes.lately')" :columns="columns" :rows="rows" :row-key="key" :empty="t('changes.empty')">
      <template #at="{ row }"><When :at="row.at" /></template>
      <template #what="{ row }"><StateTag :state="row.what" /></template>
      <template #made_by="{ row }"
        ><RouterLink v-if="row.rotation_id" :to="`/rotations/${row.rotation_id}`">{{
          t('changes.rotationOne', { n: row.rotation_id })
        }}</RouterLink
        ><template v-else>{{ t(`changes.by.${row.made_by}`) }}</template></template
      >
    </PlainTable>
    <RouterLink v-if="more" :to="{ path: '/changes', query: { f: condition() } }">{{ t('changes.ofIt') }}</RouterLink>
  </section>
</template>
