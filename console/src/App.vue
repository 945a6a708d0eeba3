<script setup lang="ts">
import { ConfigProvider } from 'ant-design-vue'
import { computed, defineAsyncComponent } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { appearance } from './state/appearance'
import { useSession } from './state/session'

const AppFrame = defineAsyncComponent(() => import('./frame/AppFrame.vue'))
const session = useSession()
const route = useRoute()
const router = useRouter()
const framed = computed(() => route.name && route.name !== 'sign-in' && !route.meta.bare && session.me)

window.addEventListener('moss-signed-out', () => {
  if (session.me) {
    session.me = undefined
    void router.push({ name: 'sign-in', query: { then: route.fullPath } })
  }
})
</script>

<template>
  <ConfigProvider :theme="appearance">
    <AppFrame v-if="framed" />
    <main v-else class="alone"><RouterView /></main>
  </ConfigProvider>
</template>

<style scoped>
.alone {
  min-height: 100vh;
}
</style>
