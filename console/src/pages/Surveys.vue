<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import { onChanged } from '../api/changes'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

type Survey = Schemas['Survey']
const session = useSession()
const router = useRouter()
const route = useRoute()
const columns: Column[] = [
  { key: 'id', title: t('fields.number'), field: 'id', content: 'word', compares: 'number' },
  { key: 'state', title: t('fields.state'), field: 'state', content: 'state' },
  { key: 'by', title: t('fields.by'), field: 'requested_by', content: 'word' },
  { key: 'started', title: t('fields.started'), field: 'started', content: 'time', compares: 'time' },
  { key: 'total', title: t('places.systems'), field: 'total', content: 'number', compares: 'number' },
  { key: 'failed', title: t('surveys.notRead'), content: 'number' },
  { key: 'added', title: t('surveys.added'), content: 'number' },
  { key: 'altered', title: t('surveys.altered'), content: 'number' },
  { key: 'vanished', title: t('surveys.vanished'), content: 'number' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/surveys', { params: { query } }))
const key = (s: Survey) => s.id

const duties = ref<Schemas['Planned'][]>([])
const plan = () =>
  data(api.GET('/api/v1/duties'))
    .then((list) => (duties.value = list ?? []))
    .catch(() => undefined)
void plan()
onChanged(() => void plan())
const due = computed(() => duties.value.find((d) => d.name === 'survey'))

const asked = ref(route.query.do === 'survey')
const { busy, trouble, work } = useWork()
const start = () =>
  work('survey', async () => {
    const started = await data(api.POST('/api/v1/surveys', { body: {} }))
    await router.push(`/surveys/${started.id}`)
  })
</script>

<template>
  <PageHead :title="t('places.surveys')">
    <template #lead
      >{{ t('surveys.lead') }} <template v-if="due?.due">{{ t('surveys.nextDue') }} <When :at="due.due" />.</template
      ><template v-else-if="due">{{ t('surveys.noneRegular') }}</template></template
    >
    <Popconfirm
      v-if="session.may('operator')"
      v-model:open="asked"
      :title="t('surveys.ask')"
      :ok-text="t('surveys.yes')"
      :cancel-text="t('do.notNow')"
      placement="bottomRight"
      @confirm="start"
    >
      <Button type="primary" :loading="busy === 'survey'">{{ t('surveys.all') }}</Button>
    </Popconfirm>
  </PageHead>
  <Trouble :words="trouble" />
  <ListPage name="surveys" :label="t('places.surveys')" :columns="columns" :fetch="fetch" :row-key="key" :empty="t('surveys.empty')">
    <template #id="{ row }"
      ><RouterLink :to="`/surveys/${row.id}`">{{ t('surveys.one', { n: row.id }) }}</RouterLink></template
    >
    <template #state="{ row }"><StateTag :state="row.state" /></template>
    <template #by="{ row }">{{ row.requested_by }}</template>
    <template #started="{ row }"><When :at="row.started" /></template>
  </ListPage>
</template>
