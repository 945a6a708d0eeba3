<script setup lang="ts">
import type { Schemas } from '../api/client'
import { t } from '../texts'
import Evidence from './Evidence.vue'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import SystemLink from './SystemLink.vue'
import When from './When.vue'

/** What depends on an account, and how that is known. */
const props = defineProps<{ dependents: Schemas['Dependent'][]; account: number; total: number; name: string }>()
const mine = (d: Schemas['Dependent']) => d.ties.filter((tie) => tie.account_id === props.account)
const columns = [
  { key: 'place', title: t('dependents.place'), content: 'place' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'kind', title: t('fields.kind'), width: 96 },
  { key: 'state', title: t('fields.state'), content: 'state' as const },
  { key: 'evidence', title: t('dependents.evidence'), content: 'text' as const },
  { key: 'readers', title: t('dependents.readBy'), content: 'system' as const },
  { key: 'seen', title: t('fields.seen'), content: 'time' as const },
]
</script>

<template>
  <section class="panel">
    <PlainTable
      :label="t('places.dependents')"
      :columns="columns"
      :rows="dependents"
      :row-key="(d) => d.id"
      :size="50"
      :empty="t('dependents.none')"
    >
      <template #system="{ row }"><SystemLink :name="row.system" /></template>
      <template #place="{ row }"
        ><RouterLink :to="`/dependents/${row.id}`">{{ row.place }}</RouterLink></template
      >
      <template #readers="{ row }">{{ row.readers.join(', ') }}</template>
      <template #state="{ row }"><StateTag :state="row.state ?? ''" /></template>
      <template #evidence="{ row }">
        <div v-for="tie in mine(row)" :key="tie.evidence">
          <Evidence :tie="tie" /> <span class="soft">{{ tie.detail }}</span>
        </div>
      </template>
      <template #seen="{ row }"><When :at="row.seen" /></template>
    </PlainTable>
    <p v-if="total > dependents.length">
      <RouterLink :to="{ path: '/dependents', query: { f: `account~${name}` } }">{{ t('dependents.all', { n: total }) }}</RouterLink>
    </p>
  </section>
</template>
