<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type ListQuery, type Schemas } from '../api/client'
import PageHead from '../components/PageHead.vue'
import StateTag from '../components/StateTag.vue'
import Trouble from '../components/Trouble.vue'
import When from '../components/When.vue'
import { useWork } from '../components/work'
import type { Column } from '../lists/listing'
import ListPage from '../lists/ListPage.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const PersonForm = defineAsyncComponent(() => import('../components/PersonForm.vue'))
type Person = Schemas['User']
const session = useSession()
const route = useRoute()
const router = useRouter()
const columns: Column[] = [
  { key: 'name', title: t('fields.name'), field: 'name', content: 'name' },
  { key: 'roles', title: t('people.roles'), field: 'roles', content: 'text' },
  { key: 'disabled', title: t('fields.state'), field: 'disabled', content: 'state', compares: 'yes' },
  { key: 'created', title: t('people.since'), field: 'created', content: 'time', compares: 'time' },
  { key: 'acts', title: t('fields.acts'), content: 'acts' },
]
const fetch = (query: ListQuery) => data(api.GET('/api/v1/users', { params: { query } }))
const key = (p: Person) => p.name
const table = ref<{ reload: () => void }>()
const { busy, trouble, work } = useWork()
const said = ref('')

/** Who is being changed; nobody for a new one. */
const open = ref(route.query.do === 'add')
const of = ref<Person>()
function begin(person?: Person): void {
  of.value = person
  open.value = true
}
function done(words: string): void {
  said.value = words
  close()
  table.value?.reload()
}
function close(): void {
  open.value = false
  if (route.query.do) void router.replace({ query: { ...route.query, do: undefined } })
}
const able = (p: Person) =>
  work(p.name, async () => {
    await data(api.PATCH('/api/v1/users/{name}', { params: { path: { name: p.name } }, body: { disabled: !p.disabled } }))
    said.value = t(p.disabled ? 'people.enabled' : 'people.disabled', { name: p.name })
    table.value?.reload()
  })
const mayChange = computed(() => session.may('administrator'))
</script>

<template>
  <PageHead :title="t('places.people')" :lead="t('people.lead')"
    ><Button v-if="mayChange" type="primary" @click="begin()">{{ t('people.add') }}</Button></PageHead
  >
  <p v-if="said" role="status">{{ said }}</p>
  <Trouble v-if="!open" :words="trouble" />
  <ListPage
    ref="table"
    name="people"
    :label="t('places.people')"
    :columns="columns"
    :fetch="fetch"
    :row-key="key"
    :empty="t('people.empty')"
  >
    <template #roles="{ row }">{{ row.roles.map((r) => t(`people.role.${r}`)).join(', ') }}</template>
    <template #disabled="{ row }"
      ><StateTag :state="row.disabled ? t('people.isDisabled') : t('people.isActive')" :as="row.disabled ? 'stopped' : 'active'"
    /></template>
    <template #created="{ row }"><When :at="row.created" /></template>
    <template #acts="{ row }">
      <div v-if="mayChange" class="row">
        <Button size="small" :aria-label="t('people.changeOne', { name: row.name })" @click="begin(row)">{{ t('do.change') }}</Button>
        <Popconfirm
          v-if="row.name !== session.me?.name"
          :title="t(row.disabled ? 'people.enableAsk' : 'people.disableAsk', { name: row.name })"
          :ok-text="t(row.disabled ? 'people.enable' : 'people.disable')"
          :cancel-text="t('do.notNow')"
          placement="left"
          @confirm="able(row)"
          ><Button size="small" :loading="busy === row.name">{{ t(row.disabled ? 'people.enable' : 'people.disable') }}</Button></Popconfirm
        >
      </div>
    </template>
  </ListPage>
  <PersonForm v-if="open" :of="of" @done="done" @close="close" />
</template>
