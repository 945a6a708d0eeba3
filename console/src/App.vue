<script setup lang="ts">
import { Button, ConfigProvider } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { live } from './api/changes'
import SearchField from './components/SearchField.vue'
import { appearance, dark, toggleDark } from './state/appearance'
import { useSession } from './state/session'

const session = useSession()
const route = useRoute()
const router = useRouter()

const menu = [
  { path: '/', text: 'Overview' },
  { path: '/systems', text: 'Systems' },
  { path: '/accounts', text: 'Accounts' },
  { path: '/credentials', text: 'Credentials' },
  { path: '/dependents', text: 'Dependents' },
  { path: '/surveys', text: 'Surveys' },
  { path: '/rotations', text: 'Rotations' },
  { path: '/findings', text: 'Findings' },
  { path: '/approvals', text: 'Approvals' },
  { path: '/ledger', text: 'Ledger' },
]
const framed = computed(() => route.name !== 'sign-in' && !route.meta.bare && session.me)

function current(path: string): boolean {
  return path === '/' ? route.path === '/' : route.path.startsWith(path)
}

async function leave(): Promise<void> {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}

window.addEventListener('moss-signed-out', () => {
  if (session.me) {
    session.me = undefined
    void router.push({ name: 'sign-in', query: { then: route.fullPath } })
  }
})
</script>

<template>
  <ConfigProvider :theme="appearance">
    <div v-if="framed" class="frame">
      <a class="visually-hidden" href="#content">Skip to the content</a>
      <header class="side">
        <div class="brand"><img src="/icon.svg" alt="" width="26" height="26" /> Moss Ledger</div>
        <SearchField />
        <nav aria-label="Pages">
          <RouterLink
            v-for="item in menu"
            :key="item.path"
            :to="item.path"
            :aria-current="current(item.path) ? 'page' : undefined"
            :class="{ here: current(item.path) }"
            >{{ item.text }}</RouterLink
          >
        </nav>
        <div class="foot">
          <RouterLink to="/yourself">{{ session.me?.name }}</RouterLink>
          <div class="soft small">{{ live ? 'live' : 'not live: reload to see changes' }}</div>
          <Button size="small" @click="toggleDark">{{ dark ? 'Light' : 'Dark' }}</Button>
          <Button size="small" @click="leave">Sign out</Button>
        </div>
      </header>
      <main id="content" tabindex="-1"><RouterView :key="route.path" /></main>
    </div>
    <main v-else class="alone"><RouterView /></main>
  </ConfigProvider>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template-columns: 178px 1fr;
  min-height: 100%;
}
.side {
  background: var(--panel);
  border-right: 1px solid var(--line);
  padding: 14px 0;
  display: flex;
  flex-direction: column;
  position: sticky;
  top: 0;
  z-index: 5;
  height: 100vh;
  box-sizing: border-box;
}
.brand {
  display: flex;
  gap: 9px;
  align-items: center;
  font-weight: 600;
  padding: 0 16px 14px;
}
nav {
  display: flex;
  flex-direction: column;
}
nav a {
  padding: 7px 16px 7px 13px;
  color: var(--ink);
  text-decoration: none;
  border-left: 3px solid transparent;
}
nav a:hover {
  background: var(--ground);
}
nav a.here {
  border-left-color: var(--moss);
  background: var(--good-bg);
  font-weight: 600;
}
.foot {
  margin-top: auto;
  padding: 0 16px;
  display: grid;
  gap: 6px;
  justify-items: start;
}
.foot a {
  min-height: 24px;
  min-width: 24px;
  align-content: center;
}
.small {
  font-size: 12px;
}
main {
  padding: 20px 24px 40px;
  min-width: 0;
  outline: none;
}
.alone {
  display: grid;
  place-items: center;
  min-height: 100vh;
  padding: 0;
}
</style>
