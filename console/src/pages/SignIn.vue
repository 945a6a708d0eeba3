<script setup lang="ts">
import { Button, Form, FormItem, Input, InputPassword } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Trouble from '../components/Trouble.vue'
import { useSession } from '../state/session'
import { t } from '../texts'

const session = useSession()
const route = useRoute()
const router = useRouter()
const form = reactive({ code: '', name: '', password: '', again: '' })
const trouble = ref('')
const busy = ref(false)

async function enter(): Promise<void> {
  if (!session.setUp && form.password !== form.again) {
    trouble.value = t('signIn.differ')
    return
  }
  busy.value = true
  trouble.value = ''
  try {
    if (session.setUp) {
      await session.signIn(form.name, form.password)
      const then = String(route.query.then ?? '/')
      await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/')
    } else {
      await session.makeFirst(form.code.trim(), form.name, form.password)
      await router.push('/start')
    }
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
    form.password = form.again = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="middle">
    <section class="panel card">
      <div class="row">
        <img src="/icon.svg" alt="" width="30" height="30" />
        <h1>{{ 'Moss Ledger' }}</h1>
      </div>
      <p class="soft">{{ session.setUp ? t('signIn.what') : t('signIn.nobody') }}</p>
      <Trouble :words="trouble" />
      <Form layout="vertical" :model="form" @finish="enter">
        <FormItem v-if="!session.setUp" :label="t('signIn.code')" name="code" html-for="code"
          ><Input id="code" v-model:value="form.code" class="mono" autocomplete="off"
        /></FormItem>
        <FormItem :label="t('fields.name')" name="name" html-for="name"
          ><Input id="name" v-model:value="form.name" autocomplete="username"
        /></FormItem>
        <FormItem :label="session.setUp ? t('signIn.password') : t('signIn.newPassword')" name="password" html-for="password"
          ><InputPassword id="password" v-model:value="form.password" :autocomplete="session.setUp ? 'current-password' : 'new-password'"
        /></FormItem>
        <FormItem v-if="!session.setUp" :label="t('people.again')" name="again" html-for="again"
          ><InputPassword id="again" v-model:value="form.again" autocomplete="new-password"
        /></FormItem>
        <Button type="primary" html-type="submit" block :loading="busy">{{ session.setUp ? t('signIn.enter') : t('signIn.setUp') }}</Button>
      </Form>
    </section>
  </div>
</template>

<style scoped>
.middle {
  display: grid;
  place-items: center;
  min-height: 100vh;
  background: var(--ground);
}
.card {
  width: min(380px, calc(100vw - 40px));
  padding: 22px 26px 26px;
}
h1 {
  margin: 0;
}
</style>
