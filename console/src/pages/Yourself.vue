<script setup lang="ts">
import { Button, Form, FormItem, InputPassword } from 'ant-design-vue'
import { reactive } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import PageHead from '../components/PageHead.vue'
import Trouble from '../components/Trouble.vue'
import { useWork } from '../components/work'
import { useSession } from '../state/session'
import { t } from '../texts'

const session = useSession()
const router = useRouter()
const form = reactive({ old: '', next: '', again: '' })
const { busy, trouble, work } = useWork()
const change = () =>
  work('change', async () => {
    if (form.next !== form.again) throw new Error(t('people.differ'))
    await data(api.POST('/api/v1/me/password', { body: { old: form.old, new: form.next } }))
    session.me = undefined
    await router.push({ name: 'sign-in' })
  })
</script>

<template>
  <PageHead :title="session.me?.name ?? ''" :lead="t('yourself.roles', { roles: session.me?.roles.join(', ') })" />
  <section class="panel narrow">
    <h2>{{ t('yourself.change') }}</h2>
    <p class="soft">{{ t('yourself.rule') }}</p>
    <Trouble :words="trouble" />
    <Form layout="vertical" :model="form" @finish="change">
      <FormItem :label="t('yourself.old')" name="old" html-for="old"
        ><InputPassword id="old" v-model:value="form.old" autocomplete="current-password"
      /></FormItem>
      <FormItem :label="t('yourself.new')" name="next" html-for="next"
        ><InputPassword id="next" v-model:value="form.next" autocomplete="new-password"
      /></FormItem>
      <FormItem :label="t('yourself.again')" name="again" html-for="again"
        ><InputPassword id="again" v-model:value="form.again" autocomplete="new-password"
      /></FormItem>
      <Button type="primary" html-type="submit" :loading="busy === 'change'" :disabled="!form.old || !form.next || !form.again">{{
        t('do.change')
      }}</Button>
    </Form>
  </section>
  <p>
    <RouterLink to="/sessions">{{ t('sessions.way') }}</RouterLink>
  </p>
</template>

<style scoped>
.narrow {
  max-width: 460px;
}
</style>
