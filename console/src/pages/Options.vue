<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const OptionForm = defineAsyncComponent(() => import('../components/OptionForm.vue'))
/** Options of all systems of a site, environment, owner or kind. */
type Common = Schemas['CommonOption']
const session = useSession()
const columns: Column[] = [
  { key: 'value', title: t('options.of'), field: 'value', content: 'name' },
  { key: 'name', title: t('options.option'), field: 'name', content: 'word' },
  { key: 'setting', title: t('options.setting'), field: 'setting', content: 'text' },
  { key: 'systems', title: t('options.systemsNow'), content: 'number' },
  { key: 'by', title: t('fields.by'), field: 'set_by', content: 'word' },
  { key: 'changed', title: t('stewards.changed'), field: 'changed', content: 'time', compares: 'time' },
  { key: 'acts', title: t('fields.acts'), content: 'acts' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/options', { params: { query } }))
const key = (o: Common) => o.id
const table = ref<{ reload: () => void }>()
const open = ref(false)
const { busy, trouble, work } = useWork()
const kinds = ref<Schemas['Description'][]>([])
void work('kinds', async () => {
  kinds.value = (await data(api.GET('/api/v1/kinds', {}))) ?? []
})
/** Options whose settings are added to a system's own. */
const added = computed(() =>
  [...new Set(kinds.value.flatMap((k) => k.options.filter((o) => o.adds || o.type === 'paths').map((o) => o.name)))].join(', '),
)
const remove = (o: Common) =>
  work(String(o.id), async () => {
    await data(api.DELETE('/api/v1/options/{id}', { params: { path: { id: o.id } } }))
    table.value?.reload()
  })
const mayChange = computed(() => session.may('operator') || session.may('administrator'))
</script>

<template>
  <PageHead :title="t('places.options')" :lead="t('options.lead', { added })"
    ><Button v-if="mayChange" type="primary" :aria-expanded="open" @click="open = !open">{{ t('options.begin') }}</Button></PageHead
  >
  <OptionForm v-if="open" :kinds="kinds" @done="table?.reload()" />
  <Trouble :words="trouble" />
  <ListPage
    ref="table"
    name="options"
    :label="t('places.options')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('options.empty')"
  >
    <template #value="{ row }">{{ t(`options.fields.${row.field}`) }} {{ row.value }}</template>
    <template #setting="{ row }"
      ><span class="mono" :title="row.setting">{{ row.setting }}</span></template
    >
    <template #by="{ row }">{{ row.set_by }}</template>
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #acts="{ row }">
      <Popconfirm
        v-if="mayChange"
        :title="t('options.removeAsk', row.systems)"
        :ok-text="t('do.remove')"
        :cancel-text="t('do.notNow')"
        placement="left"
        @confirm="remove(row)"
        ><Button
          size="small"
          :loading="busy === String(row.id)"
          :aria-label="t('options.remove', { name: row.name, of: `${row.field} ${row.value}` })"
          >{{ t('do.remove') }}</Button
        ></Popconfirm
      >
    </template>
  </ListPage>
</template>
