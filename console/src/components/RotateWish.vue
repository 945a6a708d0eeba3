<script setup lang="ts">
import { Checkbox, Form, FormItem, Input, InputNumber, Segmented, Select } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'
import { computed, defineAsyncComponent } from 'vue'
import { t } from '../texts'
import { isPair } from './credentials'
import { moment } from './words'

/** How a rotation is to go: what happens on failure, when dependents restart. */
export interface Wish {
  onFailure: 'stop' | 'continue' | 'undo'
  restart: 'now' | 'window' | 'leave'
  window?: [Dayjs, Dayjs]
  type: string
  stopFirst: boolean
  noAcceptors: string
  firstAlone: boolean
  anyTime: boolean
  way: 'any' | 'overlap' | 'alternate' | 'replace'
  /** Minutes that a system which is away is waited for; nothing for the usual time. */
  patience?: number
  /** Days that a new key is good which an issuer is given; nothing for as long as the one before it. */
  lasts?: number
  /** The system that issues a new certificate; nothing for the one that issued the one before. */
  authority?: string
  /** What could read its files again while it runs is restarted all the same. */
  noReload?: boolean
}
const AuthoritySelect = defineAsyncComponent(() => import('./AuthoritySelect.vue'))
const WindowPicker = defineAsyncComponent(() => import('./WindowPicker.vue'))
const model = defineModel<Wish>({ required: true })
const props = defineProps<{ kind?: string; mayStopFirst: boolean; asksAcceptors: boolean }>()
const endings = (['undo', 'stop', 'continue'] as const).map((value) => ({ value, label: t(`rotate.onFailure.${value}`) }))
const restarts = (['now', 'window', 'leave'] as const).map((value) => ({ value, label: t(`rotate.restart.${value}`) }))
const ways = (['any', 'overlap', 'alternate', 'replace'] as const).map((value) => ({ value, label: t(`policies.way.${value}`) }))
const types = computed(() =>
  ['', 'ssh-ed25519', 'ecdsa-sha2-nistp256', 'ssh-rsa']
    .filter((value) => props.kind === 'ssh-key' || value !== 'ssh-ed25519') // which issuers do not take
    .map((value) => ({ value, label: value ? value : t('rotate.sameType') })),
)
const utc = computed(() => (model.value.window ? model.value.window.map((d) => moment(d.toISOString())).join(' – ') : ''))
</script>

<template>
  <Form layout="inline" class="wish">
    <FormItem :label="t('rotate.whenFails')"
      ><Segmented v-model:value="model.onFailure" :options="endings" :aria-label="t('rotate.whenFails')"
    /></FormItem>
    <FormItem :label="t('rotate.restartLabel')"
      ><Select v-model:value="model.restart" :options="restarts" :aria-label="t('rotate.restartLabel')" class="restart"
    /></FormItem>
    <FormItem v-if="model.restart === 'window'" :label="t('rotate.window')" :help="utc || t('rotate.windowHelp')">
      <WindowPicker v-model="model.window" />
    </FormItem>
    <FormItem v-if="isPair(kind)" :label="t('rotate.newKey')"
      ><Select v-model:value="model.type" :options="types" :aria-label="t('rotate.newKey')" class="restart"
    /></FormItem>
    <FormItem v-if="kind === 'certificate'" :label="t('rotate.authority')"><AuthoritySelect v-model="model.authority" /></FormItem>
    <FormItem v-if="kind === 'certificate'"
      ><Checkbox v-model:checked="model.noReload" :title="t('rotate.noReloadWhy')">{{ t('rotate.noReload') }}</Checkbox></FormItem
    >
    <FormItem v-if="kind === 'cloud-key'" :label="t('rotate.lasts')"
      ><InputNumber
        v-model:value="model.lasts"
        :min="1"
        :max="7300"
        :placeholder="t('rotate.lastsAsBefore')"
        :addon-after="t('rotate.days')"
        :aria-label="t('rotate.lasts')"
        class="restart"
    /></FormItem>
    <FormItem :label="t('rotate.patience')"
      ><InputNumber
        v-model:value="model.patience"
        :min="0"
        :max="1440"
        :placeholder="'30'"
        :addon-after="t('rotate.minutes')"
        :aria-label="t('rotate.patience')"
        class="patience"
    /></FormItem>
    <FormItem v-if="!isPair(kind)" :label="t('policies.wayLabel')"
      ><Select v-model:value="model.way" :options="ways" :aria-label="t('policies.wayLabel')" class="restart"
    /></FormItem>
    <FormItem v-if="mayStopFirst"
      ><Checkbox v-model:checked="model.stopFirst" :title="t('rotate.stopFirstWhy')">{{ t('rotate.stopFirst') }}</Checkbox></FormItem
    >
    <FormItem
      ><Checkbox v-model:checked="model.firstAlone">{{ t('policies.firstAlone') }}</Checkbox></FormItem
    >
    <FormItem
      ><Checkbox v-model:checked="model.anyTime" :title="t('rotate.anyTimeWhy')">{{ t('rotate.anyTime') }}</Checkbox></FormItem
    >
    <FormItem v-if="asksAcceptors" :label="t('rotate.noAcceptors')"
      ><Input
        v-model:value.lazy="model.noAcceptors"
        :placeholder="t('rotate.noAcceptorsWhy')"
        :aria-label="t('rotate.noAcceptorsWhy')"
        :maxlength="500"
    /></FormItem>
  </Form>
</template>

<style scoped>
.wish {
  row-gap: 8px;
}
.wish :deep(.ant-segmented-group) {
  flex-wrap: wrap;
}
.restart {
  min-width: 150px;
}
.patience {
  width: 150px;
}
</style>
