<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { Problem } from '../api/client'
import Trouble from '../components/Trouble.vue'
import { useSession } from '../state/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const code = ref('')
const name = ref('')
const password = ref('')
const again = ref('')
const trouble = ref('')
const busy = ref(false)

async function enter(): Promise<void> {
  if (!session.setUp && password.value !== again.value) {
    trouble.value = 'The two passwords differ.'
    return
  }
  busy.value = true
  trouble.value = ''
  try {
    if (session.setUp) await session.signIn(name.value, password.value)
    else await session.makeFirst(code.value.trim(), name.value, password.value)
    const then = String(route.query.then ?? '/')
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/')
  } catch (e) {
    trouble.value = e instanceof Problem ? e.message : String(e)
    password.value = again.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="panel card" @submit.prevent="enter">
    <div class="row">
      <img src="/icon.svg" alt="" width="30" height="30" />
      <h1>Moss Ledger</h1>
    </div>
    <p v-if="session.setUp" class="soft">Service accounts, what depends on them, and changing their passwords without breaking anything.</p>
    <p v-else class="soft">Nobody can sign in yet. The service printed a one-time code when it started; it makes the first user.</p>
    <Trouble :words="trouble" />
    <label v-if="!session.setUp" class="above"
      ><span>Set-up code</span><input v-model="code" class="field mono" required autocomplete="off"
    /></label>
    <label class="above"><span>Name</span><input v-model="name" class="field" required autocomplete="username" /></label>
    <label class="above"
      ><span>Password{{ session.setUp ? '' : ' (at least 12 characters)' }}</span
      ><input v-model="password" class="field" type="password" required :autocomplete="session.setUp ? 'current-password' : 'new-password'"
    /></label>
    <label v-if="!session.setUp" class="above"
      ><span>Password again</span><input v-model="again" class="field" type="password" required autocomplete="new-password"
    /></label>
    <Button type="primary" html-type="submit" block :loading="busy">{{ session.setUp ? 'Sign in' : 'Set up' }}</Button>
  </form>
</template>

<style scoped>
.card {
  width: 340px;
  padding: 24px 26px;
}
h1 {
  margin: 0;
}
</style>
