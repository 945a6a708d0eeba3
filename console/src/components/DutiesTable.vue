<script setup lang="ts">
import { ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import When from './When.vue'
import { useWork } from './work'
import { never } from './words'

/** What the service does regularly. */
const duties = ref<Schemas['Planned'][]>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    duties.value = (await data(api.GET('/api/v1/duties'))) ?? []
  })
void load()
onChanged(() => void load())
const columns = [
  { key: 'title', title: t('schedule.what'), content: 'name' as const, width: 260 },
  { key: 'due', title: t('schedule.due'), content: 'time' as const },
  { key: 'begun', title: t('schedule.begun'), content: 'time' as const },
  { key: 'state', title: t('fields.state'), content: 'state' as const },
  { key: 'words', title: t('schedule.came'), content: 'text' as const },
]
</script>

<template>
  <Trouble :words="trouble" retry @again="load" />
  <p class="soft">{{ t('schedule.dutiesLead') }}</p>
  <section v-if="duties" class="panel">
    <PlainTable :label="t('schedule.duties')" :columns="columns" :rows="duties" :row-key="(d) => d.name" :empty="t('schedule.empty')">
      <template #due="{ row }"
        ><When v-if="!never(row.due)" :at="row.due" /><span v-else class="soft">{{ t('schedule.notRegular') }}</span></template
      >
      <template #begun="{ row }"
        ><When v-if="!never(row.begun)" :at="row.begun" /><span v-else class="soft">{{ t('words.never') }}</span></template
      >
      <template #state="{ row }"
        ><StateTag v-if="row.running || row.interrupted" :state="row.running ? 'running' : 'interrupted'"
      /></template>
    </PlainTable>
  </section>
</template>
