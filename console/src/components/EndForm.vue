<script setup lang="ts">
import { Checkbox, Form, FormItem, InputNumber, Select, Textarea } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import RehearseDialog from './RehearseDialog.vue'
import { useWork } from './work'

/** Asks what shall become of an end, and has it rehearsed: nothing is changed by that. */
const { of, first = '' } = defineProps<{
  of: Pick<Schemas['EndRow'], 'account_id' | 'dependent_id' | 'name' | 'system' | 'system_kind' | 'what'>
  /** That is chosen first. */
  first?: string
}>()
const emit = defineEmits<{ close: [] }>()
const DayPicker = defineAsyncComponent(() => import('./DayPicker.vue'))
const { busy, trouble, work } = useWork()
const possible = ref<Schemas['Possible'][]>([])
const chosen = ref<number>()
const when = ref<Dayjs>()
const never = ref(false)
/** Days for which it is watched before it is deleted; nothing for at once. */
const watched = ref<number | undefined>(30)
const certificate = ref('')
void work('kinds', async () => {
  const kinds = await data(api.GET('/api/v1/kinds'))
  const all = kinds?.find((k) => k.kind === of.system_kind)?.ends ?? []
  possible.value = all.filter((p) => (p.of === 'key' && p.act !== 'issue') === (of.what === 'key'))
  const wanted = possible.value.findIndex((p) => p.act === first)
  if (possible.value.length) chosen.value = Math.max(wanted, 0)
})
const options = computed(() =>
  possible.value.map((p, value) => ({ value, label: t('ends.choice', { act: t(`ends.acts.${p.act}`), what: t(`ends.what.${p.of}`) }) })),
)
const act = computed(() => (chosen.value === undefined ? undefined : possible.value[chosen.value]))
const lasts = computed(() => act.value?.act === 'set-end' || act.value?.act === 'extend')
const ready = computed(
  () => !!act.value && (!lasts.value || never.value || !!when.value) && (act.value.act !== 'issue' || certificate.value.trim() !== ''),
)
const rehearse = () => {
  const p = act.value!
  const change = {
    ...(of.account_id && of.what !== 'key' ? { account_id: of.account_id } : { dependent_id: of.dependent_id }),
    act: p.act as 'expire',
    of: p.of as 'account',
    ...(p.act === 'delete' && watched.value ? { watch_hours: watched.value * 24 } : {}),
    ...(p.act === 'issue' ? { certificate: certificate.value } : {}),
    ...(lasts.value ? { end: never.value ? 'never' : when.value!.toISOString() } : {}),
  }
  return data(api.POST('/api/v1/expiry/rehearsals', { body: { changes: [change] } }))
}
</script>

<template>
  <RehearseDialog
    :title="t('ends.changeOf', { name: `${of.name} (${of.system})` })"
    :lead="t('ends.rehearseAsk')"
    :ready="ready"
    :rehearse="rehearse"
    :failed="trouble"
    @close="emit('close')"
  >
    <p v-if="busy !== 'kinds' && !possible.length">{{ t('ends.noActs') }}</p>
    <Form v-else layout="vertical">
      <FormItem :label="t('ends.act')" html-for="end-act" :extra="act?.how"
        ><Select id="end-act" v-model:value="chosen" :options="options"
      /></FormItem>
      <FormItem v-if="lasts" :label="t('ends.until')" html-for="end-when"
        ><DayPicker v-if="!never" id="end-when" v-model="when" time />
        <Checkbox v-model:checked="never" class="never">{{ t('ends.neverEnds') }}</Checkbox></FormItem
      >
      <FormItem v-if="act?.act === 'delete'" :label="t('ends.watch')" html-for="end-watch" :extra="t('ends.watchWhy')"
        ><InputNumber id="end-watch" v-model:value="watched" :min="1" :max="366" :addon-after="t('rotate.days')"
      /></FormItem>
      <FormItem v-if="act?.act === 'issue'" :label="t('ends.certificate')" html-for="end-certificate"
        ><Textarea id="end-certificate" v-model:value="certificate" :rows="6" class="mono" spellcheck="false"
      /></FormItem>
    </Form>
  </RehearseDialog>
</template>

<style scoped>
.never {
  margin-left: 12px;
}
</style>
