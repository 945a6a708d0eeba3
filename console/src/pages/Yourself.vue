<script setup lang="ts">
import { Button, Form, FormItem, InputPassword } from 'ant-design-vue'
import { reactive } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import Trouble from '../components/Trouble.vue'
import { useWork } from '../components/work'
import { useSession } from '../state/session'

const session = useSession()
const router = useRouter()
const form = reactive({ old: '', next: '', again: '' })
const { busy, trouble, work } = useWork()
const change = () =>
  work('change', async () => {
    if (form.next !== form.again) throw new Error('The two new passwords differ.')
    await data(api.POST('/api/v1/me/password', { body: { old: form.old, new: form.next } }))
    session.me = undefined
    await router.push({ name: 'sign-in' })
  })
</script>

<template>
  <h1>{{ session.me?.name }}</h1>
  <p class="soft">Your roles: {{ session.me?.roles.join(', ') }}. Another administrator can change them.</p>
  <section class="panel narrow">
    <h2>Change your password</h2>
    <p class="soft">At least 12 characters, and none that is common or easily guessed. All your sessions and tokens end.</p>
    <Trouble :words="trouble" />
    <Form layout="vertical" :model="form" @finish="change">
      <FormItem label="Old password" name="old" html-for="old"
        ><InputPassword id="old" v-model:value="form.old" autocomplete="current-password"
      /></FormItem>
      <FormItem label="New password" name="next" html-for="next"
        ><InputPassword id="next" v-model:value="form.next" autocomplete="new-password"
      /></FormItem>
      <FormItem label="New password again" name="again" html-for="again"
        ><InputPassword id="again" v-model:value="form.again" autocomplete="new-password"
      /></FormItem>
      <Button type="primary" html-type="submit" :loading="busy === 'change'" :disabled="!form.old || !form.next || !form.again"
        >Change</Button
      >
    </Form>
  </section>
</template>

<style scoped>
.narrow {
  max-width: 460px;
}
</style>
