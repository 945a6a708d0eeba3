<script setup lang="ts">
import { Alert, AutoComplete, Button, Form, FormItem, Input, Select, Switch } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import RightsRead from './RightsRead.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Who may do this to that: a question to one system. */
const systems = ref<string[]>([])
const verbs = ref<string[]>([])
const asked = ref({ system: undefined as string | undefined, verb: '', thing: '', as: '', groups: false })
const answer = ref<Schemas['RightHolders']>()
const { busy, trouble, work } = useWork()
const found = (filter: string[]) => data(api.GET('/api/v1/rights', { params: { query: { filter, limit: 1000 } } }))

void work('systems', async () => {
  const page = await data(api.GET('/api/v1/systems', { params: { query: { limit: 1000, sort: 'name' } } }))
  systems.value = page.items.map((s) => s.name)
})
watch(
  () => asked.value.system,
  (system) => {
    answer.value = undefined
    if (!system) return
    void work('verbs', async () => {
      const page = await found([`system=${system}`])
      verbs.value = [...new Set(page.items.map((r) => r.verb))].sort()
      if (!verbs.value.includes(asked.value.verb)) asked.value.verb = verbs.value.find((v) => v === 'run') ?? verbs.value[0] ?? ''
    })
  },
)
const runs = computed(() => asked.value.verb === 'run')
const ask = () =>
  work('ask', async () => {
    answer.value = undefined
    const { system, verb, thing, as, groups } = asked.value
    const query = { system: system!, verb, [runs.value ? 'what' : 'object']: thing, as: runs.value ? as : '', principals: groups }
    answer.value = await data(api.GET('/api/v1/rights/who', { params: { query } }))
  })
const rows = computed(() => (answer.value?.holders ?? []).flatMap((h) => h.rights.map((right, i) => ({ h, right, key: `${h.name} ${i}` }))))
const columns = [
  { key: 'name', title: t('rights.who'), content: 'name' as const },
  { key: 'may', title: t('rights.may'), content: 'word' as const },
  { key: 'through', title: t('rights.through'), content: 'name' as const },
  { key: 'terms', title: t('rights.terms'), content: 'name' as const },
  { key: 'by', title: t('rights.by'), content: 'text' as const },
]
const options = (list: string[]) => list.map((value) => ({ value, label: value }))
</script>

<template>
  <section class="panel">
    <Form :model="asked" layout="vertical" class="ask" @finish="ask">
      <FormItem :label="t('fields.system')" html-for="rights-system">
        <Select
          id="rights-system"
          v-model:value="asked.system"
          show-search
          :options="options(systems)"
          :placeholder="t('rights.chooseSystem')"
          class="wide"
        />
      </FormItem>
      <FormItem :label="t('rights.verb')" html-for="rights-verb">
        <AutoComplete id="rights-verb" v-model:value="asked.verb" :options="options(verbs)" class="wide" />
      </FormItem>
      <FormItem :label="runs ? t('rights.command') : t('rights.object')" html-for="rights-thing" class="grows">
        <Input id="rights-thing" v-model:value="asked.thing" :placeholder="runs ? t('rights.commandHint') : t('rights.objectHint')" />
      </FormItem>
      <FormItem v-if="runs" :label="t('rights.asWhom')" html-for="rights-as"
        ><Input id="rights-as" v-model:value="asked.as" :placeholder="t('rights.asHint')"
      /></FormItem>
      <FormItem :label="t('rights.groupsToo')" html-for="rights-groups"
        ><Switch id="rights-groups" v-model:checked="asked.groups"
      /></FormItem>
      <FormItem label=" " :colon="false">
        <Button type="primary" html-type="submit" :loading="busy === 'ask'" :disabled="!asked.system || !asked.verb">{{
          t('rights.ask')
        }}</Button>
      </FormItem>
    </Form>
    <Trouble :words="trouble" />
    <template v-if="answer">
      <Alert v-if="!rows.length" type="info" show-icon :message="t('rights.nobody')" />
      <PlainTable v-else :label="t('rights.answer')" :columns="columns" :rows="rows" :row-key="(r) => r.key" :size="20">
        <template #name="{ row }"
          ><RouterLink v-if="row.h.account_id" :to="`/accounts/${row.h.account_id}?tab=rights`">{{ row.h.name }}</RouterLink
          ><template v-else>{{ row.h.name }}</template></template
        >
        <template #may="{ row }"
          ><StateTag :state="row.h.allowed ? 'yes' : 'perhaps'" /><span v-if="row.h.unsure" class="soft">
            {{ row.h.unsure }}</span
          ></template
        >
        <template #through="{ row }">{{ row.right.through || t('rights.itself') }}</template>
        <template #terms="{ row }">{{ (row.right.terms ?? []).join('; ') }}</template>
        <template #by="{ row }"
          ><span class="mono">{{ row.right.text }}</span
          ><span v-if="row.right.source" class="soft"> {{ t('rights.in', { source: row.right.source }) }}</span></template
        >
      </PlainTable>
      <RightsRead :read="answer.read" :system="answer.system" />
    </template>
  </section>
</template>

<style scoped>
.ask {
  display: flex;
  flex-wrap: wrap;
  gap: 0 16px;
}
.grows {
  flex: 1 1 280px;
}
.wide {
  min-width: 200px;
}
</style>
