<script setup lang="ts">
import { Alert, Button, Form, FormItem, Input, InputPassword, Textarea } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A new steward, or what another one is to sign in with from now on. */
const props = defineProps<{ of?: Schemas['Steward'] }>()
const emit = defineEmits<{ done: [name: string] }>()
const form = reactive({ name: props.of?.name ?? '', account: props.of?.account ?? '', password: '', key: '' })
const said = ref('')
const { busy, trouble, work } = useWork()
async function send(): Promise<void> {
  await work('send', async () => {
    const { name, account } = form
    const body = { account, ...(form.password ? { password: form.password } : {}), ...(form.key ? { private_key: form.key } : {}) }
    // A name that is there already would be replaced for all its systems: only where that was asked for.
    if (!props.of) {
      const there = await data(api.GET('/api/v1/stewards', { params: { query: { filter: [`name=${name}`], limit: 1 } } }))
      if (there.items.length) throw new Error(t('stewards.there', { name }))
    }
    await data(api.PUT('/api/v1/stewards/{name}', { params: { path: { name } }, body }))
    said.value = t('stewards.kept', { name })
    Object.assign(form, { name: '', account: '' })
    emit('done', name)
  })
  // Whatever came of it, secrets do not stay in the page.
  form.password = form.key = ''
}
</script>

<template>
  <Form layout="vertical" :model="form" class="form" @finish="send">
    <Alert v-if="of && of.systems" type="warning" show-icon class="warn" :message="t('stewards.replaceWarn', of.systems)" />
    <Trouble :words="trouble" />
    <FormItem :label="t('fields.name')" name="name" html-for="steward-name"
      ><Input id="steward-name" v-model:value="form.name" :disabled="!!of" autocomplete="off"
    /></FormItem>
    <FormItem :label="t('stewards.account')" name="account" html-for="steward-account"
      ><Input id="steward-account" v-model:value="form.account" autocomplete="off"
    /></FormItem>
    <FormItem :label="t('stewards.password')" name="password" html-for="steward-password"
      ><InputPassword id="steward-password" v-model:value="form.password" autocomplete="new-password"
    /></FormItem>
    <FormItem :label="t('stewards.orKey')" name="key" html-for="steward-key"
      ><Textarea id="steward-key" v-model:value="form.key" :rows="4" class="mono" autocomplete="off" spellcheck="false"
    /></FormItem>
    <p class="soft">{{ t('stewards.sealed') }}</p>
    <Button
      type="primary"
      html-type="submit"
      :loading="busy === 'send'"
      :disabled="!form.name || !form.account || !(form.password || form.key)"
      >{{ of ? t('do.change') : t('stewards.add') }}</Button
    >
    <p v-if="said" role="status">{{ said }}</p>
  </Form>
</template>

<style scoped>
.form {
  max-width: 480px;
}
.warn {
  margin-bottom: 12px;
}
</style>
