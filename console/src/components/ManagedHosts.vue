<script setup lang="ts">
import { Alert, Checkbox, Form, FormItem, Input, InputNumber, RadioButton, RadioGroup, Select } from 'ant-design-vue'
import { computed, defineAsyncComponent, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import '../texts/managed'
import RehearseDialog from './RehearseDialog.vue'

// Calendars are large.
const BetweenPicker = defineAsyncComponent(() => import('./BetweenPicker.vue'))

/** Asks which hosts shall fetch the password of an account, or from whom it shall be taken. Nothing is changed by that. */
const props = defineProps<{ account: Schemas['Account']; removing?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({ hosts: [] as string[], group: '', restart: true, since: '', until: '', days: 7 })
const from = ref<'hosts' | 'group' | 'all'>('hosts')
const ready = computed(() => {
  if (!props.removing || from.value === 'hosts') return form.hosts.length > 0
  return from.value === 'all' || form.group.trim() !== ''
})
const path = computed(() => ({ params: { path: { id: props.account.id } } }))
const letting = () =>
  api.POST('/api/v1/accounts/{id}/managed/hosts', {
    ...path.value,
    body: {
      hosts: form.hosts,
      group: form.group.trim(),
      restart: form.restart,
      ...(form.restart && form.since && form.until ? { not_before: form.since, not_after: form.until } : {}),
    },
  })
const taking = () =>
  api.POST('/api/v1/accounts/{id}/managed/removal', {
    ...path.value,
    body:
      from.value === 'hosts'
        ? { hosts: form.hosts }
        : from.value === 'group'
          ? { group: form.group.trim() }
          : { watch_hours: form.days * 24 },
  })
const rehearse = () => data(props.removing ? taking() : letting())
</script>

<template>
  <RehearseDialog
    :title="t(removing ? 'managed.removeOf' : 'managed.installOf', { name: account.name })"
    :lead="t(removing ? 'managed.removeAsk' : 'managed.installAsk')"
    :ready="ready"
    :rehearse="rehearse"
    @close="emit('close')"
  >
    <Form layout="vertical" :model="form">
      <FormItem v-if="removing" :label="t('managed.from')"
        ><RadioGroup v-model:value="from"
          ><RadioButton value="hosts">{{ t('managed.fromHosts') }}</RadioButton
          ><RadioButton value="group">{{ t('managed.fromGroup') }}</RadioButton
          ><RadioButton value="all">{{ t('managed.fromAll') }}</RadioButton></RadioGroup
        ></FormItem
      >
      <FormItem v-if="!removing || from === 'hosts'" :label="t('managed.hosts')" html-for="hosts-names" :extra="t('managed.hostsNamed')"
        ><Select id="hosts-names" v-model:value="form.hosts" mode="tags" :token-separators="[' ', ',']" :open="false"
      /></FormItem>
      <FormItem
        v-if="!removing || from === 'group'"
        :label="t('managed.group')"
        html-for="hosts-group"
        :extra="t(removing ? 'managed.removeGroup' : 'managed.installGroup')"
        ><Input id="hosts-group" v-model:value="form.group" :maxlength="1000" autocomplete="off"
      /></FormItem>
      <template v-if="!removing">
        <FormItem
          ><Checkbox v-model:checked="form.restart">{{ t('managed.restart') }}</Checkbox></FormItem
        >
        <FormItem v-if="form.restart" :label="t('managed.restartWindow')" :extra="t('managed.restartHelp')"
          ><BetweenPicker
            :since="form.since || undefined"
            :until="form.until || undefined"
            @choose="(since, until) => Object.assign(form, { since: since ?? '', until: until ?? '' })"
        /></FormItem>
      </template>
      <FormItem v-if="removing && from === 'all'" :label="t('managed.watch')" html-for="hosts-days" :extra="t('managed.watchHelp')"
        ><InputNumber id="hosts-days" v-model:value="form.days" :min="0" :max="366"
      /></FormItem>
    </Form>
    <Alert v-if="removing" type="info" show-icon :message="t('managed.removeUsed')" />
  </RehearseDialog>
</template>
