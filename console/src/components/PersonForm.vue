<script setup lang="ts">
import { Button, CheckboxGroup, Drawer, Form, FormItem, Input, InputPassword } from 'ant-design-vue'
import { computed, reactive } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** A new person, or other roles or another password for one who is there. */
const props = defineProps<{ of?: Schemas['User'] }>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const options = (['viewer', 'operator', 'approver', 'auditor', 'administrator'] as const).map((value) => ({
  value,
  label: t(`people.role.${value}`),
}))
const form = reactive({ name: props.of?.name ?? '', password: '', again: '', roles: props.of?.roles ?? (['viewer'] as string[]) })
const { busy, trouble, work } = useWork()
const differ = computed(() => form.again !== '' && form.again !== form.password)
const ready = computed(() => form.name && form.roles.length && form.password === form.again && (props.of || form.password))
async function send(): Promise<void> {
  await work('send', async () => {
    const roles = form.roles as never
    if (props.of) {
      const body = { roles, ...(form.password ? { password: form.password } : {}) }
      await data(api.PATCH('/api/v1/users/{name}', { params: { path: { name: props.of.name } }, body }))
      emit('done', t('people.changed', { name: props.of.name }))
    } else {
      await data(api.POST('/api/v1/users', { body: { name: form.name, password: form.password, roles } }))
      emit('done', t('people.added', { name: form.name }))
    }
  })
  // Whatever came of it, passwords do not stay in the page.
  form.password = form.again = ''
}
</script>

<template>
  <Drawer
    open
    :width="460"
    :title="of ? t('people.changeOne', { name: of.name }) : t('people.add')"
    destroy-on-close
    @close="emit('close')"
  >
    <Trouble :words="trouble" />
    <Form layout="vertical" :model="form" @finish="send">
      <FormItem :label="t('fields.name')" name="name" html-for="person-name"
        ><Input id="person-name" v-model:value="form.name" :disabled="!!of" autocomplete="off" :maxlength="100"
      /></FormItem>
      <FormItem :label="t('people.roles')" name="roles"
        ><CheckboxGroup v-model:value="form.roles" :options="options" class="roles"
      /></FormItem>
      <p class="soft">{{ t('people.duties') }}</p>
      <FormItem
        :label="of ? t('people.newPassword') : t('people.password')"
        name="password"
        html-for="person-password"
        :extra="t('people.passwordRule')"
        ><InputPassword id="person-password" v-model:value="form.password" autocomplete="new-password"
      /></FormItem>
      <FormItem
        :label="t('people.again')"
        name="again"
        html-for="person-again"
        :validate-status="differ ? 'error' : undefined"
        :help="differ ? t('people.differ') : undefined"
        ><InputPassword id="person-again" v-model:value="form.again" autocomplete="new-password"
      /></FormItem>
      <Button type="primary" html-type="submit" :loading="busy === 'send'" :disabled="!ready">{{
        of ? t('do.change') : t('people.add')
      }}</Button>
    </Form>
  </Drawer>
</template>

<style scoped>
.roles {
  display: grid;
  gap: 6px;
}
</style>
