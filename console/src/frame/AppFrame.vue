<script setup lang="ts">
import { MenuFoldOutlined, MenuOutlined, MenuUnfoldOutlined, SearchOutlined } from '@ant-design/icons-vue'
import { Button, Drawer, Layout, LayoutContent, LayoutHeader, LayoutSider } from 'ant-design-vue'
import { defineAsyncComponent, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { live } from '../api/changes'
import { around } from '../state/around'
import { personal } from '../state/personal'
import { t } from '../texts'
import FrozenBanner from '../components/FrozenBanner.vue'
import PlacesMenu from './PlacesMenu.vue'

const LookAround = defineAsyncComponent(() => import('./LookAround.vue'))
const SearchEverywhere = defineAsyncComponent(() => import('./SearchEverywhere.vue'))
const PersonMenu = defineAsyncComponent(() => import('./PersonMenu.vue'))
const route = useRoute()
const folded = personal('menu-folded', false)
const small = ref(window.matchMedia('(max-width: 899px)').matches)
const open = ref(false)
const searching = ref(false)

const watched = window.matchMedia('(max-width: 899px)')
const measure = (): void => {
  small.value = watched.matches
}
function pressed(e: KeyboardEvent): void {
  if ((e.ctrlKey || e.metaKey) && !e.altKey && !e.shiftKey && e.key.toLowerCase() === 'k') {
    e.preventDefault()
    searching.value = !searching.value
  }
}
onMounted(() => {
  watched.addEventListener?.('change', measure)
  window.addEventListener('keydown', pressed)
})
onBeforeUnmount(() => {
  watched.removeEventListener?.('change', measure)
  window.removeEventListener('keydown', pressed)
})
</script>

<template>
  <Layout class="frame">
    <a class="skip" href="#content">{{ t('frame.skip') }}</a>
    <LayoutSider
      v-if="!small"
      v-model:collapsed="folded"
      class="side"
      theme="light"
      :width="206"
      :collapsed-width="58"
      :trigger="null"
      collapsible
    >
      <PlacesMenu :narrow="folded"
        ><div class="brand">
          <img src="/icon.svg" alt="" width="26" height="26" /><span v-if="!folded">{{ 'Moss Ledger' }}</span>
        </div></PlacesMenu
      >
    </LayoutSider>
    <Drawer v-else v-model:open="open" placement="left" :width="250" :title="'Moss Ledger'" :body-style="{ padding: '4px 0' }">
      <PlacesMenu @went="open = false" />
    </Drawer>
    <Layout>
      <LayoutHeader class="bar">
        <Button v-if="small" type="text" :aria-label="t('frame.openMenu')" @click="open = true"><MenuOutlined aria-hidden="true" /></Button>
        <Button v-else type="text" :aria-label="folded ? t('frame.unfold') : t('frame.fold')" @click="folded = !folded">
          <MenuUnfoldOutlined v-if="folded" aria-hidden="true" /><MenuFoldOutlined v-else aria-hidden="true" />
        </Button>
        <Button class="search" :aria-label="small ? t('search.open') : undefined" @click="searching = true">
          <SearchOutlined aria-hidden="true" /><span v-if="!small" class="hint">{{ t('search.hint') }}</span
          ><kbd v-if="!small">Ctrl K</kbd>
        </Button>
        <span class="live" :class="{ off: !live }" role="status"
          ><i aria-hidden="true" /><span :class="{ 'visually-hidden': small }">{{
            live ? t('frame.live') : t('frame.notLive')
          }}</span></span
        >
        <PersonMenu />
      </LayoutHeader>
      <FrozenBanner />
      <LayoutContent id="content" tabindex="-1" class="middle">
        <RouterView :key="route.path" />
      </LayoutContent>
    </Layout>
    <LookAround v-if="around" @close="around = false" />
    <SearchEverywhere v-if="searching" v-model:open="searching" />
  </Layout>
</template>

<style scoped>
.frame {
  min-height: 100vh;
}
.skip {
  position: absolute;
  left: -9999px;
  top: 6px;
  z-index: 30;
  background: var(--panel);
  padding: 6px 12px;
}
.skip:focus {
  left: 12px;
}
.side {
  background: var(--panel) !important;
  border-right: 1px solid var(--line);
  position: sticky;
  top: 0;
  height: 100vh;
  overflow-y: auto;
}
.brand {
  display: flex;
  gap: 10px;
  align-items: center;
  font-weight: 600;
  padding: 14px 16px 8px;
  white-space: nowrap;
  overflow: hidden;
}
.bar {
  position: sticky;
  top: 0;
  z-index: 9;
  display: flex;
  gap: 10px;
  align-items: center;
  height: 48px;
  line-height: normal;
  padding: 0 18px 0 8px;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  color: var(--ink);
}
.search {
  display: flex;
  align-items: center;
  gap: 8px;
  max-width: 420px;
  flex: 1;
  text-align: left;
  color: var(--soft);
}
.hint {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
}
kbd {
  font:
    12px ui-monospace,
    monospace;
  border: 1px solid var(--line);
  border-radius: 4px;
  padding: 0 5px;
  color: var(--soft);
}
.live {
  margin-left: auto;
  font-size: 12.5px;
  color: var(--soft);
  display: flex;
  align-items: center;
  gap: 6px;
}
.live i {
  width: 8px;
  height: 8px;
  border-radius: 50%;
  background: var(--good);
}
.live.off {
  color: var(--warn);
}
.live.off i {
  background: none;
  border: 2px solid var(--warn);
  width: 6px;
  height: 6px;
}
.middle {
  padding: 18px 22px 48px;
  min-width: 0;
  outline: none;
}
@media (max-width: 899px) {
  .middle {
    padding: 14px 12px 40px;
  }
  .bar {
    padding: 0 10px 0 4px;
    gap: 4px;
  }
  .search {
    flex: 0;
  }
}
</style>
