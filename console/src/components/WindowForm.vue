<script setup lang="ts">
import { Button, Drawer, Form, FormItem, Input, InputNumber, Segmented, Select, SelectOption } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import { days, daysOf, daysRule } from './recurrence'

/** When a window is open, and for what it counts. When it opens next is shown before it is saved. */
const props = defineProps<{ of?: Schemas['WindowNow'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const here = Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC'
const today = new Date().toISOString().slice(0, 10)
const form = reactive({
  name: props.of?.name ?? '',
  way: !props.of || daysOf(props.of.rule) ? 'days' : 'rule',
  on: daysOf(props.of?.rule ?? '') ?? [],
  rule: props.of?.rule ?? 'FREQ=MONTHLY;BYDAY=2SU',
  date: props.of?.begins.slice(0, 10) ?? today,
  at: props.of?.begins.slice(11) ?? '22:00',
  zone: props.of?.zone ?? here,
  minutes: props.of?.minutes ?? 240,
  description: props.of?.description ?? '',
  labels: [...(props.of?.labels ?? [])],
  systems: [...(props.of?.systems ?? [])],
})
const zones = Intl.supportedValuesOf('timeZone')
const ways = [
  { value: 'days', label: t('windows.byDays') },
  { value: 'rule', label: t('windows.byRule') },
]
const body = computed(() => ({
  rule: form.way === 'days' ? daysRule(form.on) : form.rule,
  begins: `${form.date}T${form.at}`,
  zone: form.zone,
  minutes: form.minutes ?? 0,
  description: form.description,
  labels: form.labels,
  systems: form.systems,
  dependents: props.of?.dependents ?? [],
  revision: props.of?.revision ?? 0,
}))
const { busy, trouble, work } = useWork()
const shown = ref<{ of: string; slots: Schemas['WindowNow']['slots'] }>()
const slots = computed(() => (shown.value?.of === JSON.stringify(body.value) ? shown.value.slots : undefined))
const look = () =>
  work('look', async () => {
    const of = JSON.stringify(body.value)
    shown.value = { of, slots: (await data(api.POST('/api/v1/windows/preview', { body: body.value }))).slots }
  })
const save = () =>
  work('save', async () => {
    await data(api.PUT('/api/v1/windows/{name}', { params: { path: { name: form.name } }, body: body.value }))
    emit('done', t('windows.saved', { name: form.name }))
  })
const local = computed(
  () =>
    new Intl.DateTimeFormat('en-GB', {
      timeZone: form.zone,
      weekday: 'short',
      day: '2-digit',
      month: 'short',
      year: 'numeric',
      hour: '2-digit',
      minute: '2-digit',
    }),
)
const told = (s: Schemas['WindowNow']['slots'][number]) => `${local.value.format(new Date(s.from))} – ${local.value.format(new Date(s.to))}`
const systems = ref<string[]>([])
const labels = ref<string[]>([])
void work('choices', async () => {
  labels.value = ((await data(api.GET('/api/v1/labels'))) ?? []).map((l) => l.label)
})
const find = (text: string) =>
  work('systems', async () => {
    systems.value = (await data(api.GET('/api/v1/systems', { params: { query: { search: text, limit: 30 } } }))).items.map((s) => s.name)
  })
</script>

<template>
  <Drawer open width="min(720px, 100vw)" :title="of ? t('windows.change', { name: of.name }) : t('windows.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="slots ? save() : look()">
      <FormItem :label="t('fields.name')" html-for="window-name"
        ><Input id="window-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem><Segmented v-model:value="form.way" :options="ways" :aria-label="t('windows.opens')" /></FormItem>
      <FormItem v-if="form.way === 'days'" :label="t('windows.on')" html-for="window-days" :extra="t('windows.onHelp')"
        ><Select id="window-days" v-model:value="form.on" mode="multiple" :placeholder="t('windows.everyDay')"
          ><SelectOption v-for="d in days" :key="d" :value="d">{{ t(`windows.day.${d}`) }}</SelectOption></Select
        ></FormItem
      >
      <FormItem v-else :label="t('windows.rule')" html-for="window-rule" :extra="t('windows.ruleHelp')"
        ><Input id="window-rule" v-model:value="form.rule" class="mono" :maxlength="300" autocomplete="off"
      /></FormItem>
      <div class="row fields">
        <FormItem v-if="form.way === 'rule'" :label="t('windows.from')" html-for="window-date"
          ><Input id="window-date" v-model:value="form.date" :placeholder="today" :maxlength="10"
        /></FormItem>
        <FormItem :label="t('windows.at')" html-for="window-at"><Input id="window-at" v-model:value="form.at" :maxlength="5" /></FormItem>
        <FormItem :label="t('windows.lasts')" html-for="window-minutes"
          ><InputNumber id="window-minutes" v-model:value="form.minutes" :min="5" :max="10080" :addon-after="t('rotate.minutes')"
        /></FormItem>
        <FormItem :label="t('windows.zone')" html-for="window-zone" class="zone"
          ><Select id="window-zone" v-model:value="form.zone" show-search
            ><SelectOption v-for="z in zones" :key="z" :value="z">{{ z }}</SelectOption></Select
          ></FormItem
        >
      </div>
      <FormItem :label="t('windows.labels')" html-for="window-labels" :extra="t('windows.labelsHelp')"
        ><Select id="window-labels" v-model:value="form.labels" mode="tags" :options="labels.map((l) => ({ value: l }))"
      /></FormItem>
      <FormItem :label="t('windows.systems')" html-for="window-systems" :extra="t('windows.systemsHelp')"
        ><Select
          id="window-systems"
          v-model:value="form.systems"
          mode="multiple"
          show-search
          :filter-option="false"
          :options="systems.map((s) => ({ value: s }))"
          @search="find"
          @focus="find('')"
      /></FormItem>
      <FormItem :label="t('fields.description')" html-for="window-description"
        ><Input id="window-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <Trouble :words="trouble" />
      <div class="row">
        <Button :type="slots ? 'default' : 'primary'" :loading="busy === 'look'" @click="look">{{ t('windows.look') }}</Button>
        <Button v-if="slots" type="primary" :loading="busy === 'save'" :disabled="!form.name" @click="save">{{ t('rules.save') }}</Button>
        <span v-else class="soft">{{ t('windows.first') }}</span>
      </div>
    </Form>
    <section v-if="slots" class="slots">
      <h2>{{ t('windows.isOpenThen', { zone: form.zone }) }}</h2>
      <ol v-if="slots.length">
        <li v-for="s in slots" :key="s.from">{{ told(s) }}</li>
      </ol>
      <p v-else>{{ t('windows.over') }}</p>
    </section>
  </Drawer>
</template>

<style scoped>
.fields {
  flex-wrap: wrap;
  align-items: flex-end;
}
.zone {
  flex: 1 1 200px;
}
.slots {
  margin-top: 16px;
}
</style>
