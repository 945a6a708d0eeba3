<script setup lang="ts">
import { Button, Checkbox, Drawer, Form, FormItem, Input, InputNumber, Segmented, Select } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PolicyPreview from './PolicyPreview.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A policy is written, what it would do is looked at, and then it is saved. */
const props = defineProps<{ of?: Schemas['Policy'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const was = props.of
const form = reactive({
  name: was?.name ?? '',
  label: was?.label ?? '',
  precedence: was?.precedence ?? 100,
  way: was?.renew_days ? 'ends' : was?.rule ? 'rule' : 'days',
  renew: was?.renew_days || 30,
  every_days: was?.every_days || 90,
  rule: was?.rule ?? 'FREQ=MONTHLY;BYDAY=1SU',
  begins: was?.begins ?? `${new Date().toISOString().slice(0, 10)}T00:00`,
  zone: was?.zone ?? (Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC'),
  spread: was?.spread || 1,
  window: was?.window ?? '',
  at_window_end: was?.at_window_end || 'pause',
  on_failure: was?.on_failure || 'undo',
  restart: was?.restart || 'now',
  value: was?.way || 'any',
  first_alone: was?.first_alone ?? true,
  quiet_hours: was?.quiet_hours ?? 0,
  at_once: was?.at_once || 4,
  patience: was?.patience ? was.patience / 60 : 30,
  length: was?.length || 32,
  undoDays: was?.undo_days || 90,
  lead: was?.lead_days || 30,
  age: was?.max_age_days || undefined,
  idle: was?.idle_days || undefined,
  without: was?.without ?? '',
  paused: was?.paused ?? false,
  description: was?.description ?? '',
})
const often = [
  { value: 'days', label: t('policies.byDays') },
  { value: 'rule', label: t('policies.byRule') },
  { value: 'ends', label: t('policies.byEnds') },
]
const choices = <T extends string>(key: string, values: readonly T[]) =>
  values.map((value) => ({ value, label: t(`policies.${key}.${value}`) }))
const renews = computed(() => form.way === 'ends')
const when = computed(() =>
  renews.value
    ? { renew_days: form.renew ?? 0 }
    : form.way === 'days'
      ? { every_days: form.every_days ?? 0 }
      : { rule: form.rule, begins: form.begins, zone: form.zone, spread: form.spread ?? 1 },
)
/** What is said of accounts and passwords: a policy for certificates has none of it. */
const ofAccounts = computed(() => ({
  label: form.label,
  way: form.value as 'any',
  quiet_hours: form.quiet_hours ?? 0,
  ...(form.length && form.length !== 32 ? { length: form.length } : {}),
  ...(form.lead && form.lead !== 30 ? { lead_days: form.lead } : {}),
  ...(form.age ? { max_age_days: form.age } : {}),
  ...(form.idle ? { idle_days: form.idle } : {}),
  without: form.without,
}))
const body = computed(() => ({
  ...(renews.value ? { label: '' } : ofAccounts.value),
  precedence: form.precedence ?? 0,
  ...when.value,
  window: form.window,
  at_window_end: form.window ? (form.at_window_end as 'pause') : ('' as const),
  on_failure: form.on_failure as 'undo',
  restart: form.restart as 'now',
  first_alone: form.first_alone,
  at_once: form.at_once ?? 0,
  patience: Math.round((form.patience ?? 0) * 60),
  ...(form.undoDays && form.undoDays !== 90 ? { undo_days: form.undoDays } : {}),
  paused: form.paused,
  description: form.description,
  revision: was?.revision ?? 0,
}))
const { busy, trouble, work } = useWork()
const shown = ref<{ of: string; preview: Schemas['PolicyPreview'] }>()
const now = computed(() => JSON.stringify([form.name, body.value]))
const preview = computed(() => (shown.value?.of === now.value ? shown.value.preview : undefined))
const path = computed(() => ({ params: { path: { name: form.name } } }))
const look = () =>
  work('look', async () => {
    const of = now.value
    shown.value = { of, preview: await data(api.POST('/api/v1/policies/{name}/preview', { ...path.value, body: body.value })) }
  })
const save = () =>
  work('save', async () => {
    await data(api.PUT('/api/v1/policies/{name}', { ...path.value, body: body.value }))
    emit('done', t('policies.saved', { name: form.name }))
  })
const windows = ref<string[]>([])
const labels = ref<string[]>([])
void work('choices', async () => {
  const [w, l] = await Promise.all([
    data(api.GET('/api/v1/windows', { params: { query: { limit: 500 } } })),
    data(api.GET('/api/v1/labels')),
  ])
  windows.value = w.items.map((v) => v.name)
  labels.value = (l ?? []).map((v) => v.label)
})
const windowChoices = computed(() => [
  { value: '', label: t('policies.anyTime') },
  ...windows.value.map((value) => ({ value, label: value })),
])
const labelChoices = computed(() => [
  { value: '', label: t('policies.all') },
  ...[...new Set([...labels.value, form.label])].filter(Boolean).map((value) => ({ value, label: value })),
])
</script>

<template>
  <Drawer open width="min(760px, 100vw)" :title="of ? t('policies.change', { name: of.name }) : t('policies.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" class="form" @finish="look">
      <FormItem :label="t('fields.name')" html-for="policy-name"
        ><Input id="policy-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem :label="t('policies.precedence')" html-for="policy-precedence" :extra="t('policies.precedenceHelp')"
        ><InputNumber id="policy-precedence" v-model:value="form.precedence" :min="0" :max="1000000"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.for')" html-for="policy-label"
        ><Select id="policy-label" v-model:value="form.label" show-search :options="labelChoices"
      /></FormItem>
      <FormItem :label="t('policies.window')" html-for="policy-window"
        ><Select id="policy-window" v-model:value="form.window" :options="windowChoices"
      /></FormItem>
      <FormItem class="wide" :label="t('policies.often')"
        ><Segmented v-model:value="form.way" :options="often" :aria-label="t('policies.often')"
      /></FormItem>
      <FormItem v-if="form.way === 'days'" class="wide" :label="t('policies.days')" html-for="policy-days" :extra="t('policies.daysHelp')"
        ><InputNumber id="policy-days" v-model:value="form.every_days" :min="1" :max="3660" :addon-after="t('policies.dayUnit')"
      /></FormItem>
      <FormItem v-else-if="renews" class="wide" :label="t('policies.renew')" html-for="policy-renew" :extra="t('policies.renewHelp')"
        ><InputNumber id="policy-renew" v-model:value="form.renew" :min="1" :max="3660" :addon-after="t('policies.dayUnit')"
      /></FormItem>
      <template v-else>
        <FormItem class="wide" :label="t('windows.rule')" html-for="policy-rule" :extra="t('windows.ruleHelp')"
          ><Input id="policy-rule" v-model:value="form.rule" class="mono" :maxlength="300" autocomplete="off"
        /></FormItem>
        <FormItem :label="t('windows.from')" html-for="policy-begins"
          ><Input id="policy-begins" v-model:value="form.begins" :maxlength="16"
        /></FormItem>
        <FormItem :label="t('windows.zone')" html-for="policy-zone"
          ><Input id="policy-zone" v-model:value="form.zone" :maxlength="60"
        /></FormItem>
        <FormItem :label="t('policies.spread')" html-for="policy-spread" :extra="t('policies.spreadHelp')"
          ><InputNumber id="policy-spread" v-model:value="form.spread" :min="1" :max="366"
        /></FormItem>
      </template>
      <FormItem class="wide" :label="t('rotate.whenFails')"
        ><Segmented
          v-model:value="form.on_failure"
          :options="choices('onFailure', ['undo', 'stop', 'continue'])"
          :aria-label="t('rotate.whenFails')"
      /></FormItem>
      <FormItem v-if="form.window" class="wide" :label="t('policies.windowEnd')"
        ><Segmented
          v-model:value="form.at_window_end"
          :options="choices('atWindowEnd', ['pause', 'undo'])"
          :aria-label="t('policies.windowEnd')"
      /></FormItem>
      <FormItem v-if="!renews" class="wide" :label="t('policies.wayLabel')"
        ><Segmented
          v-model:value="form.value"
          :options="choices('way', ['any', 'overlap', 'alternate', 'replace'])"
          :aria-label="t('policies.wayLabel')"
      /></FormItem>
      <FormItem class="wide" :label="t('rotate.restartLabel')"
        ><Segmented v-model:value="form.restart" :options="choices('restart', ['now', 'leave'])" :aria-label="t('rotate.restartLabel')"
      /></FormItem>
      <FormItem :label="t('policies.atOnce')" html-for="policy-once"
        ><InputNumber id="policy-once" v-model:value="form.at_once" :min="1" :max="100"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.quiet')" html-for="policy-quiet" :extra="t('policies.quietHelp')"
        ><InputNumber id="policy-quiet" v-model:value="form.quiet_hours" :min="0" :max="8760" :addon-after="t('policies.hours')"
      /></FormItem>
      <FormItem :label="t('rotate.patience')" html-for="policy-patience"
        ><InputNumber id="policy-patience" v-model:value="form.patience" :min="1" :max="43200" :addon-after="t('rotate.minutes')"
      /></FormItem>
      <FormItem :label="t('policies.undoDays')" html-for="policy-undo" :extra="t('policies.undoDaysHelp')"
        ><InputNumber id="policy-undo" v-model:value="form.undoDays" :min="1" :max="3660"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.leadDays')" html-for="policy-lead" :extra="t('policies.leadDaysHelp')"
        ><InputNumber id="policy-lead" v-model:value="form.lead" :min="1" :max="3660"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.ageDays')" html-for="policy-age" :extra="t('policies.ageDaysHelp')"
        ><InputNumber id="policy-age" v-model:value="form.age" :min="1" :max="36600"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.idleDays')" html-for="policy-idle" :extra="t('policies.idleDaysHelp')"
        ><InputNumber id="policy-idle" v-model:value="form.idle" :min="1" :max="36600"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.length')" html-for="policy-length"
        ><InputNumber id="policy-length" v-model:value="form.length" :min="12" :max="256"
      /></FormItem>
      <FormItem v-if="!renews" :label="t('policies.without')" html-for="policy-without" :extra="t('policies.withoutHelp')"
        ><Input id="policy-without" v-model:value="form.without" class="mono" :maxlength="100" autocomplete="off"
      /></FormItem>
      <FormItem class="wide"
        ><Checkbox v-model:checked="form.first_alone">{{ t('policies.firstAlone') }}</Checkbox>
        <Checkbox v-model:checked="form.paused">{{ t('policies.pause') }}</Checkbox></FormItem
      >
      <FormItem class="wide" :label="t('fields.description')" html-for="policy-description"
        ><Input id="policy-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <div class="wide">
        <Trouble :words="trouble" />
        <div class="row">
          <Button html-type="submit" :type="preview ? 'default' : 'primary'" :loading="busy === 'look'" :disabled="!form.name">{{
            t('policies.look')
          }}</Button>
          <Button v-if="preview" type="primary" :loading="busy === 'save'" @click="save">{{ t('rules.save') }}</Button>
          <span v-else class="soft">{{ t('windows.first') }}</span>
        </div>
      </div>
    </Form>
    <PolicyPreview v-if="preview" :preview="preview" />
  </Drawer>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  column-gap: 16px;
}
.wide {
  grid-column: 1 / -1;
}
.form :deep(.ant-segmented-group) {
  flex-wrap: wrap;
}
</style>
