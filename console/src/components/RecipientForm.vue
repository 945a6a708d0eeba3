<script setup lang="ts">
import { Button, Drawer, Form, FormItem, Input, InputPassword, Segmented, Select, Switch, Textarea } from 'ant-design-vue'
import { computed, onMounted, reactive, shallowRef } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** Who is told: where, how that is proven, and what of all that happens. */
const props = defineProps<{ of?: Schemas['Recipient'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
type Kind = Schemas['Recipient']['kind']
type Severity = Schemas['Recipient']['least']
const form = reactive({
  name: props.of?.name ?? '',
  kind: (props.of?.kind ?? 'webhook') as Kind,
  address: props.of?.address ?? '',
  user: props.of?.user ?? '',
  from: props.of?.from ?? '',
  to: props.of?.to ?? [],
  trusted_ca: props.of?.trusted_ca ?? '',
  secret: '',
  events: props.of?.events ?? [],
  least: (props.of?.least ?? 'warning') as Severity,
  labels: props.of?.labels ?? [],
  paused: props.of?.paused ?? false,
  description: props.of?.description ?? '',
})
const kinds = (['webhook', 'mail', 'syslog'] as const).map((value) => ({ value, label: t(`messages.kind.${value}`) }))
const severities = (['critical', 'error', 'warning', 'notice', 'informational'] as const).map((value) => ({
  value,
  label: t(`messages.severity.${value}`),
}))
const names = shallowRef<{ value: string; label: string }[]>([])
onMounted(async () => {
  // Without the list, names can still be typed.
  const list = (await data(api.GET('/api/v1/event-names')).catch(() => null)) ?? []
  const areas = [...new Set(list.map((e) => e.name.split('.')[0] + '.*'))]
  names.value = [...areas, ...list.map((e) => e.name)].sort().map((value) => ({ value, label: value }))
})
const mail = computed(() => form.kind === 'mail')
const secret = computed(() => form.kind === 'webhook' || (mail.value && !!form.user))
const ready = computed(
  () =>
    !!form.name &&
    !!form.address &&
    (!mail.value || (!!form.from && form.to.length > 0)) &&
    (!secret.value || !!form.secret || !!props.of?.secret),
)
const { busy, trouble, work } = useWork()
async function save(): Promise<void> {
  await work('save', async () => {
    const { name, secret: given, user, from, to, ...rest } = form
    await data(
      api.PUT('/api/v1/recipients/{name}', {
        params: { path: { name } },
        body: {
          ...rest,
          ...(mail.value ? { user, from, to } : {}),
          ...(given && secret.value ? { secret: given } : {}),
          revision: props.of?.revision ?? 0,
        },
      }),
    )
    emit('done', t('messages.saved', { name }))
  })
  // Whatever came of it, a secret does not stay in the page.
  form.secret = ''
}
</script>

<template>
  <Drawer open width="min(640px, 100vw)" :title="of ? t('messages.change', { name: of.name }) : t('messages.add')" @close="emit('close')">
    <Form layout="vertical" :model="form" @finish="save">
      <FormItem :label="t('fields.name')" html-for="recipient-name"
        ><Input id="recipient-name" v-model:value="form.name" :disabled="!!of" :maxlength="63" autocomplete="off"
      /></FormItem>
      <FormItem :extra="t(`messages.means.${form.kind}`)"
        ><Segmented v-model:value="form.kind" :options="kinds" :aria-label="t('fields.kind')"
      /></FormItem>
      <FormItem :label="t('messages.address')" html-for="recipient-address"
        ><Input
          id="recipient-address"
          v-model:value="form.address"
          class="mono"
          :placeholder="t(`messages.example.${form.kind}`)"
          autocomplete="off"
      /></FormItem>
      <template v-if="mail">
        <FormItem :label="t('messages.from')" html-for="recipient-from"
          ><Input id="recipient-from" v-model:value="form.from" autocomplete="off"
        /></FormItem>
        <FormItem :label="t('messages.to')" html-for="recipient-to"
          ><Select id="recipient-to" v-model:value="form.to" mode="tags" :token-separators="[',', ' ']" :open="false"
        /></FormItem>
        <FormItem :label="t('messages.user')" html-for="recipient-user"
          ><Input id="recipient-user" v-model:value="form.user" autocomplete="off"
        /></FormItem>
      </template>
      <FormItem
        v-if="secret"
        :label="t(`messages.secret.${form.kind}`)"
        :extra="of?.secret ? t('messages.keep') : ''"
        html-for="recipient-secret"
        ><InputPassword id="recipient-secret" v-model:value="form.secret" autocomplete="new-password"
      /></FormItem>
      <FormItem :label="t('messages.authority')" :extra="t('messages.authorityHelp')" html-for="recipient-ca"
        ><Textarea id="recipient-ca" v-model:value="form.trusted_ca" :rows="3" class="mono" spellcheck="false"
      /></FormItem>
      <FormItem :label="t('messages.least')" html-for="recipient-least"
        ><Select id="recipient-least" v-model:value="form.least" :options="severities"
      /></FormItem>
      <FormItem :label="t('messages.events')" :extra="t('messages.eventsHelp')" html-for="recipient-events"
        ><Select id="recipient-events" v-model:value="form.events" mode="tags" :options="names"
      /></FormItem>
      <FormItem :label="t('messages.labels')" :extra="t('messages.labelsHelp')" html-for="recipient-labels"
        ><Select id="recipient-labels" v-model:value="form.labels" mode="tags" :open="false"
      /></FormItem>
      <FormItem :label="t('fields.description')" html-for="recipient-description"
        ><Input id="recipient-description" v-model:value="form.description" :maxlength="1000"
      /></FormItem>
      <FormItem v-if="of" :label="t('messages.pausedLong')" html-for="recipient-paused"
        ><Switch id="recipient-paused" v-model:checked="form.paused"
      /></FormItem>
      <Trouble :words="trouble" />
      <Button html-type="submit" type="primary" :loading="busy === 'save'" :disabled="!ready">{{ t('rules.save') }}</Button>
    </Form>
  </Drawer>
</template>
