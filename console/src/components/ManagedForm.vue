<script setup lang="ts">
import { Checkbox, Form, FormItem, Input, InputNumber, Select } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import '../texts/managed'
import RehearseDialog from './RehearseDialog.vue'

/** Asks for a managed account that is to be created, or, of one, for the group whose hosts shall fetch its password. Nothing is changed by that. */
const props = defineProps<{ account?: Schemas['Account']; directories: string[] }>()
const emit = defineEmits<{ close: [] }>()
const chosen = ref<string>()
/** The one that is chosen, or the only one there is. */
const directory = computed({
  get: () => chosen.value ?? props.account?.system ?? (props.directories.length === 1 ? props.directories[0] : undefined),
  set: (name) => (chosen.value = name),
})
const form = reactive({ name: '', dns: '', group: '', interval: 30, services: [] as string[], container: '', old: false })
const ready = computed(() => !!(props.account ? form.group.trim() : directory.value && form.name.trim() && form.dns.trim()))
const asked = () =>
  props.account
    ? api.POST('/api/v1/accounts/{id}/managed/permit', { params: { path: { id: props.account.id } }, body: { group: form.group.trim() } })
    : api.POST('/api/v1/systems/{name}/managed', {
        params: { path: { name: directory.value ?? '' } },
        body: {
          name: form.name.trim(),
          dns_name: form.dns.trim(),
          interval_days: form.interval,
          group: form.group.trim(),
          container: form.container.trim(),
          services: form.services,
          old_types: form.old,
        },
      })
const rehearse = () => data(asked())
</script>

<template>
  <RehearseDialog
    :title="account ? t('managed.permitOf', { name: account.name }) : t('managed.create')"
    :lead="t('managed.rehearseAsk')"
    :ready="ready"
    :rehearse="rehearse"
    @close="emit('close')"
  >
    <Form layout="vertical" :model="form">
      <template v-if="!account">
        <FormItem :label="t('managed.directory')" html-for="new-directory"
          ><Select id="new-directory" v-model:value="directory" show-search :options="directories.map((value) => ({ value }))"
        /></FormItem>
        <FormItem :label="t('fields.name')" html-for="new-name" :extra="t('managed.nameHelp')"
          ><Input id="new-name" v-model:value="form.name" class="mono" :maxlength="16" autocomplete="off"
        /></FormItem>
        <FormItem :label="t('managed.dns')" html-for="new-dns"
          ><Input id="new-dns" v-model:value="form.dns" class="mono" :maxlength="253" autocomplete="off"
        /></FormItem>
        <FormItem :label="t('managed.interval')" html-for="new-interval" :extra="t('managed.intervalHelp')"
          ><InputNumber id="new-interval" v-model:value="form.interval" :min="1" :max="3650"
        /></FormItem>
        <FormItem :label="t('managed.services')" html-for="new-services" :extra="t('managed.servicesHelp')"
          ><Select id="new-services" v-model:value="form.services" mode="tags" :token-separators="[' ', ',']" :open="false"
        /></FormItem>
        <FormItem :label="t('managed.container')" html-for="new-container" :extra="t('managed.containerHelp')"
          ><Input id="new-container" v-model:value="form.container" class="mono" :maxlength="1000" autocomplete="off"
        /></FormItem>
      </template>
      <FormItem :label="t('managed.group')" html-for="new-group" :extra="account ? t('managed.permitHelp') : t('managed.groupHelp')"
        ><Input id="new-group" v-model:value="form.group" :maxlength="1000" autocomplete="off"
      /></FormItem>
      <Checkbox v-if="!account" v-model:checked="form.old">{{ t('managed.old') }}</Checkbox>
    </Form>
  </RehearseDialog>
</template>
