<script setup lang="ts">
import { Button, Form, FormItem, Input, Popconfirm } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'
import { defineAsyncComponent, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { useSession } from '../state/session'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import SystemLink from './SystemLink.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import When from './When.vue'

/** Who was seen signed in with an account, and what people say of its use. */
const props = defineProps<{ account: number }>()
const emit = defineEmits<{ changed: [] }>()
const DayPicker = defineAsyncComponent(() => import('./DayPicker.vue'))
const session = useSession()
const uses = ref<Schemas['SeenUse'][]>([])
const said = ref<Schemas['Declaration'][]>([])
const asking = ref(false)
const form = ref<{ place: string; system: string; reason: string; until?: Dayjs }>({ place: '', system: '', reason: '' })
const { busy, trouble, work } = useWork()

async function read(): Promise<void> {
  const params = { path: { id: props.account } }
  uses.value = (await data(api.GET('/api/v1/accounts/{id}/uses', { params }))) ?? []
  said.value = (await data(api.GET('/api/v1/accounts/{id}/declarations', { params }))) ?? []
}
const load = () => work('load', read)
void load()
onChanged(() => void load())

const act = (what: string, does: () => Promise<unknown>) =>
  work(what, async () => {
    await does()
    await read()
    emit('changed')
    asking.value = false
    form.value = { place: '', system: '', reason: '' }
  })
const declare = () =>
  act('declare', () => {
    const f = form.value
    const body = {
      place: f.place,
      system: f.system || undefined,
      reason: f.reason,
      ...(f.until ? { until: f.until.format('YYYY-MM-DD') + 'T00:00:00Z' } : {}),
    }
    return data(api.POST('/api/v1/accounts/{id}/declarations', { params: { path: { id: props.account } }, body }))
  })
const withdraw = (id: number) => act(`withdraw${id}`, () => data(api.DELETE('/api/v1/declarations/{id}', { params: { path: { id } } })))
const columns = [
  { key: 'system', title: t('uses.to'), content: 'system' as const },
  { key: 'from', title: t('uses.from'), content: 'name' as const },
  { key: 'program', title: t('dependents.program'), content: 'text' as const },
  { key: 'how', title: t('uses.how'), content: 'word' as const },
  { key: 'count', title: t('uses.times'), content: 'number' as const },
  { key: 'last', title: t('uses.last'), content: 'time' as const },
]
const declared = [
  { key: 'place', title: t('uses.declared'), content: 'text' as const },
  { key: 'system', title: t('fields.system'), content: 'system' as const },
  { key: 'reason', title: t('fields.reason'), content: 'text' as const },
  { key: 'until', title: t('uses.until'), content: 'time' as const },
  { key: 'by', title: t('fields.by'), content: 'system' as const },
  { key: 'acts', title: t('fields.acts'), content: 'word' as const },
]
</script>

<template>
  <section class="panel">
    <Trouble :words="trouble" />
    <PlainTable :label="t('uses.title')" :columns="columns" :rows="uses" :row-key="(_, i) => i" :size="20" :empty="t('uses.empty')">
      <template #from="{ row }"
        ><SystemLink v-if="row.host" :name="row.host" /><span v-else>{{ row.client ? t('uses.noSystem') : t('uses.itself') }}</span
        >{{ ' ' }}<span class="soft">{{ row.client }}</span></template
      >
      <template #program="{ row }"
        >{{ row.unit || row.program
        }}<span v-if="row.application" class="soft"> {{ t('uses.calls', { name: row.application }) }}</span></template
      >
      <template #how="{ row }">{{ row.how }} <StateTag v-if="row.failed" state="refused" /></template>
      <template #last="{ row }"><When :at="row.last" /></template>
    </PlainTable>
    <template v-if="said.length">
      <h2>{{ t('uses.declaredTitle') }}</h2>
      <PlainTable :label="t('uses.declaredTitle')" :columns="declared" :rows="said" :row-key="(d) => d.id">
        <template #until="{ row }">{{ row.until ? row.until.slice(0, 10) : t('uses.noEnd') }}</template>
        <template #by="{ row }">{{ row.said_by }} <When :at="row.said" /></template>
        <template #acts="{ row }">
          <Popconfirm
            v-if="session.may('operator')"
            :title="t('uses.withdrawAsk')"
            :ok-text="t('approvals.withdraw')"
            :cancel-text="t('do.notNow')"
            @confirm="withdraw(row.id)"
            ><Button size="small" :loading="busy === `withdraw${row.id}`">{{ t('approvals.withdraw') }}</Button></Popconfirm
          >
        </template>
      </PlainTable>
    </template>
    <template v-if="session.may('operator')">
      <Button v-if="!asking" size="small" class="ask" @click="asking = true">{{ t('uses.declare') }}</Button>
      <Form v-else layout="vertical" class="form" :model="form" @finish="declare">
        <FormItem :label="t('uses.place')" html-for="use-place"
          ><Input id="use-place" v-model:value="form.place" :maxlength="500"
        /></FormItem>
        <FormItem :label="t('uses.onSystem')" html-for="use-system"><Input id="use-system" v-model:value="form.system" /></FormItem>
        <FormItem :label="t('uses.know')" html-for="use-reason"
          ><Input id="use-reason" v-model:value="form.reason" :maxlength="500"
        /></FormItem>
        <FormItem :label="t('uses.askAgain')" html-for="use-until"><DayPicker id="use-until" v-model="form.until" /></FormItem>
        <div class="row">
          <Button type="primary" html-type="submit" :loading="busy === 'declare'" :disabled="!form.place || !form.reason">{{
            t('uses.declareDo')
          }}</Button>
          <Button @click="asking = false">{{ t('do.cancel') }}</Button>
        </div>
      </Form>
    </template>
  </section>
</template>

<style scoped>
.ask {
  margin-top: 8px;
}
.form {
  max-width: 460px;
  margin-top: 10px;
}
</style>
