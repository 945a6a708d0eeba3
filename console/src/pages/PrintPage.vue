<script setup lang="ts">
import { Button, Spin } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { grouped } from '../components/groups'
import PlainTable from '../components/PlainTable.vue'
import Trouble from '../components/Trouble.vue'
import { local } from '../components/words'
import { several } from '../lists/listing'
import { t } from '../texts'

const most = 20000
const route = useRoute()
const by = several(route.query.group)[0] ?? 'system'
const filters = [...several(route.query.f), ...several(route.query.q)]
const rows = ref<Schemas['Dependent'][]>([])
const loading = ref(true)
const trouble = ref('')
const made = new Date().toISOString()

async function load(): Promise<void> {
  try {
    let cursor: string | undefined
    do {
      const query = { filter: several(route.query.f), search: several(route.query.q)[0], limit: 500, cursor }
      const page = await data(api.GET('/api/v1/dependents', { params: { query } }))
      rows.value = rows.value.concat(page.items)
      cursor = page.next
    } while (cursor && rows.value.length < most)
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  } finally {
    loading.value = false
  }
}
void load()
const groups = computed(() => grouped(rows.value, by))
const columns = [
  ...(by === 'system' ? [] : [{ key: 'system', title: t('fields.system'), content: 'system' as const }]),
  { key: 'kind', title: t('fields.kind'), content: 'word' as const },
  { key: 'place', title: t('dependents.place'), content: 'place' as const },
  { key: 'runs_as', title: t('dependents.runsAs'), content: 'text' as const },
  { key: 'state', title: t('fields.state'), content: 'state' as const },
  { key: 'start_mode', title: t('dependents.start'), content: 'word' as const },
  { key: 'done', title: t('print.done'), width: 70 },
]
const print = (): void => window.print()
</script>

<template>
  <div class="sheet">
    <div class="row spread">
      <h1>{{ t('print.title', { by: t(`dependents.by.${by}`) }) }}</h1>
      <Button class="no-print" @click="print">{{ t('do.print') }}</Button>
    </div>
    <p class="soft">
      {{ t('print.counts', { dependents: t('n.dependents', rows.length), groups: t('n.groups', groups.length), time: local(made) }) }}
      <template v-if="filters.length">{{ t('print.only', { filters: filters.join(', ') }) }}</template>
    </p>
    <Trouble :words="trouble" />
    <Spin v-if="loading" />
    <p v-else-if="!rows.length && !trouble" class="soft">{{ t('lists.nothingMatches') }}</p>
    <section v-for="g in groups" :key="g.name">
      <h2>
        {{ g.name }} <span class="soft">({{ g.rows.length }})</span>
      </h2>
      <PlainTable :label="g.name" :columns="columns" :rows="g.rows" :row-key="(d) => d.id">
        <template #done><span class="tick" :aria-label="t('print.tick')" role="img" /></template>
      </PlainTable>
    </section>
  </div>
</template>

<style scoped>
.sheet {
  padding: 20px 26px;
  background: var(--panel);
}
.tick {
  display: inline-block;
  width: 14px;
  height: 14px;
  border: 1px solid var(--soft);
}
section {
  break-inside: avoid-page;
}
</style>
