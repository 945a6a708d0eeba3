<script setup lang="ts">
import { Button, Form, FormItem, Input, InputNumber, Select, Textarea } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Asks ports, many at once, from the service or from hosts that can. */
const emit = defineEmits<{ done: [] }>()
const form = reactive({ targets: '', from: [''] as string[], status: undefined as number | undefined, contains: '', proxy: '' })
const hosts = ref<string[]>([])
const got = ref<Schemas['Probe'][]>()
const { busy, trouble, work } = useWork()
void work('hosts', async () => {
  const page = await data(api.GET('/api/v1/systems', { params: { query: { filter: ['kind=unix-host'], sort: 'name', limit: 500 } } }))
  hosts.value = page.items.map((s) => s.name)
})
const places = computed(() => [{ value: '', label: t('probes.service') }, ...hosts.value.map((value) => ({ value, label: value }))])
const targets = computed(() => form.targets.split(/\s+/).filter(Boolean))
const ask = () =>
  work('ask', async () => {
    const body = {
      asks: targets.value.map((target) => ({
        target,
        ...(form.status ? { status: form.status } : {}),
        ...(form.contains ? { contains: form.contains } : {}),
        ...(form.proxy ? { proxy: form.proxy } : {}),
      })),
      from: form.from,
    }
    got.value = (await data(api.POST('/api/v1/probes', { body }))) ?? []
    emit('done')
  })
const columns = [
  { key: 'target', title: t('probes.target'), content: 'place' as const, width: 260 },
  { key: 'from', title: t('probes.from'), content: 'system' as const },
  { key: 'outcome', title: t('probes.outcome'), content: 'state' as const, width: 130 },
  { key: 'words', title: t('probes.words'), content: 'text' as const },
]
</script>

<template>
  <section class="panel ask">
    <Form layout="vertical" :model="form" class="form" @finish="ask">
      <FormItem class="wide" :label="t('probes.targets')" html-for="probe-targets" :extra="t('probes.targetsHelp')"
        ><Textarea id="probe-targets" v-model:value="form.targets" class="mono" :rows="3" spellcheck="false"
      /></FormItem>
      <FormItem class="wide" :label="t('probes.fromWhere')" html-for="probe-from"
        ><Select id="probe-from" v-model:value="form.from" mode="multiple" show-search :options="places"
      /></FormItem>
      <FormItem :label="t('probes.status')" html-for="probe-status"
        ><InputNumber id="probe-status" v-model:value="form.status" :min="100" :max="599"
      /></FormItem>
      <FormItem :label="t('probes.contains')" html-for="probe-contains"
        ><Input id="probe-contains" v-model:value="form.contains" :maxlength="400" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('probes.proxy')" html-for="probe-proxy"
        ><Input id="probe-proxy" v-model:value="form.proxy" class="mono" :maxlength="300" autocomplete="off"
      /></FormItem>
      <div class="wide">
        <Trouble :words="trouble" />
        <Button type="primary" html-type="submit" :disabled="!targets.length || !form.from.length" :loading="busy === 'ask'">{{
          t('probes.ask')
        }}</Button>
      </div>
    </Form>
    <PlainTable v-if="got" :label="t('probes.answers')" :columns="columns" :rows="got" :row-key="(p) => p.id" :size="20">
      <template #from="{ row }">{{ row.from || t('probes.service') }}</template>
      <template #outcome="{ row }"><StateTag :state="row.outcome" /></template>
    </PlainTable>
  </section>
</template>

<style scoped>
.ask {
  margin-bottom: 16px;
}
.form {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(200px, 1fr));
  column-gap: 16px;
}
.wide {
  grid-column: 1 / -1;
}
</style>
