<script setup lang="ts">
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'
import { useWork } from './work'

/** What a charter said, the latest first; each opens to its text. */
const props = defineProps<{ name: string }>()
const versions = ref<Schemas['CharterVersion'][]>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    versions.value = (await data(api.GET('/api/v1/charters/{name}/versions', { params: { path: { name: props.name } } }))) ?? []
  })
void load()
const columns = [
  { key: 'version', title: t('charters.version'), content: 'number' as const, width: 90 },
  { key: 'changed', title: t('rules.changed'), content: 'time' as const },
  { key: 'changed_by', title: t('charters.by'), content: 'name' as const },
]
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <PlainTable
    v-if="versions"
    :label="t('charters.versions')"
    :columns="columns"
    :rows="versions"
    :row-key="(v) => v.version"
    :size="50"
    :empty="t('charters.versionsEmpty')"
  >
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #expanded="{ row }">
      <pre class="mono" tabindex="0">{{ row.document }}</pre>
    </template>
  </PlainTable>
</template>
