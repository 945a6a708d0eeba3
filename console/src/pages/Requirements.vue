<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import { useWork } from '../components/work'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useDecided } from '../lists/decided'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const RequirementForm = defineAsyncComponent(() => import('../components/RequirementForm.vue'))
type Requirement = Schemas['Requirement']
const session = useSession()
const may = computed(() => session.may('administrator'))
const columns = computed<Column[]>(() => [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'what', title: t('requirements.what'), content: 'text' },
  { key: 'hours', title: t('requirements.hours'), field: 'hours', content: 'number', compares: 'number' },
  { key: 'description', title: t('fields.description'), field: 'description', content: 'text' },
  { key: 'changed', title: t('rules.changed'), field: 'changed', content: 'time', compares: 'time' },
  ...(may.value ? [{ key: 'acts', title: t('fields.acts'), content: 'acts' } as Column] : []),
])
const fetch = (query: ListQuery) => data(api.GET('/api/v1/requirements', { params: { query } }))
const key = (r: Requirement) => r.id
/** For which rotations, in words: all of it must hold. */
const what = (r: Requirement) =>
  [
    r.label ? t('requirements.ofLabel', { name: r.label }) : '',
    r.restarts ? t('requirements.ofRestarts', r.restarts) : '',
    r.kinds.length ? t('requirements.ofKinds', { names: r.kinds.join(', ') }) : '',
    r.unread ? t('requirements.ofUnread') : '',
  ]
    .filter(Boolean)
    .join(', ')
const { holds, said, open, of, begin, done } = useDecided<Requirement>()
const { busy, trouble, work } = useWork()
const remove = (r: Requirement) =>
  work(`remove ${r.name}`, async () => {
    const answer = await data(
      api.DELETE('/api/v1/requirements/{name}', { params: { path: { name: r.name }, query: { revision: r.revision } } }),
    )
    done(
      answer.waits_for_approval ? t('requirements.waits', { n: answer.waits_for_approval }) : t('requirements.removed', { name: r.name }),
    )
  })
</script>

<template>
  <PageHead :title="t('places.requirements')" :lead="t('requirements.lead')"
    ><Button v-if="may" type="primary" @click="begin()">{{ t('requirements.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble :words="trouble" />
  <ListPage
    :ref="holds"
    name="requirements"
    :label="t('places.requirements')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('requirements.empty')"
  >
    <template #what="{ row }"
      ><span :title="what(row)">{{ what(row) }}</span></template
    >
    <template #changed="{ row }"><When :at="row.changed" /></template>
    <template #acts="{ row }">
      <div class="row">
        <Button size="small" @click="begin(row)">{{ t('do.change') }}</Button>
        <Button size="small" :loading="busy === `remove ${row.name}`" @click="remove(row)">{{ t('do.remove') }}</Button>
      </div>
    </template>
  </ListPage>
  <RequirementForm v-if="open" :of="of" @done="done" @close="open = false" />
</template>
