<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import { daysOf } from '../components/recurrence'
import When from '../components/When.vue'
import { lasting } from '../components/words'
import type { Column } from '../lists/listing'
import { useDecided } from '../lists/decided'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const WindowForm = defineAsyncComponent(() => import('../components/WindowForm.vue'))
const RemoveNamed = defineAsyncComponent(() => import('../components/RemoveNamed.vue'))
type Window = Schemas['WindowNow']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name', width: 130 },
  { key: 'open', title: t('fields.state'), content: 'state', width: 96 },
  { key: 'next', title: t('windows.next'), content: 'time' },
  { key: 'rule', title: t('windows.opens'), field: 'rule', content: 'text', width: 230 },
  { key: 'minutes', title: t('windows.lasts'), field: 'minutes', content: 'word', compares: 'number' },
  { key: 'zone', title: t('windows.zone'), field: 'zone', content: 'system', optional: true },
  { key: 'counts', title: t('windows.counts'), content: 'text' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text', optional: true },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts' } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/windows', { params: { query } }))
const key = (w: Window) => w.id
/** When it opens, in words where its rule is a plain one. */
function opens(w: Window): string {
  const on = daysOf(w.rule)
  const which = on === undefined ? w.rule : on.length ? on.map((d) => t(`windows.short.${d}`)).join(', ') : t('windows.everyDay')
  return t('windows.opensAt', { at: w.begins.slice(11), which, zone: w.zone })
}
/** For what it counts, in a few words. */
const counts = (w: Window) =>
  [
    ...w.policies.map((p) => t('windows.ofPolicy', { name: p })),
    ...w.labels.map((l) => t('windows.ofLabel', { name: l })),
    ...w.systems,
    ...w.dependents.map((d) => `${d.system}/${d.place}`),
  ].join(', ') || t('windows.ofNothing')
const { holds, said, open, of, going, begin, done } = useDecided<Window>()
const remove = (w: Window) =>
  data(api.DELETE('/api/v1/windows/{name}', { params: { path: { name: w.name }, query: { revision: w.revision } } }))
</script>

<template>
  <PageHead :title="t('places.windows')" :lead="t('windows.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('windows.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <ListPage
    :ref="holds"
    name="windows"
    :label="t('places.windows')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('windows.empty')"
  >
    <template #open="{ row }"
      ><StateTag :state="row.open ? t('windows.isOpen') : t('windows.isClosed')" :as="row.open ? 'active' : 'plain'"
    /></template>
    <template #next="{ row }"
      ><When v-if="row.slots.length" :at="row.open ? row.slots[0]!.to : row.slots[0]!.from" /><span v-else class="soft">{{
        t('windows.over')
      }}</span></template
    >
    <template #rule="{ row }"
      ><span :title="`${row.rule} · ${row.begins} · ${row.zone}`">{{ opens(row) }}</span></template
    >
    <template #minutes="{ row }">{{ lasting(row.minutes * 60_000) }}</template>
    <template #counts="{ row }"
      ><span :title="counts(row)">{{ counts(row) }}</span></template
    >
    <template #acts="{ row }">
      <div class="row">
        <Button size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button size="small" @click="going = row">{{ t('do.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <WindowForm v-if="open" :of="of" @done="done" @close="open = false" />
  <RemoveNamed
    v-if="going"
    :title="t('windows.removeAsk', { name: going.name })"
    :words="t('windows.removeWhat')"
    :said="t('windows.removed', { name: going.name })"
    :remove="() => remove(going!)"
    @done="done"
    @close="going = undefined"
  />
</template>
