<script setup lang="ts">
import { Menu, type ItemType } from 'ant-design-vue'
import { computed, h } from 'vue'
import { RouterLink, useRoute } from 'vue-router'
import { useSession } from '../state/session'
import { t } from '../texts'
import { groups, placeOf } from './places'

/** The pages, in groups. A group is named only while there is room for words. */
defineProps<{ narrow?: boolean }>()
const emit = defineEmits<{ went: [] }>()
const route = useRoute()
const session = useSession()

const items = computed(() =>
  groups.flatMap((group): ItemType[] => {
    const places = group.places
      .filter((p) => !p.roles || p.roles.some((role) => session.may(role)))
      .map((p) => ({
        key: p.path,
        icon: () => h(p.icon, { 'aria-hidden': 'true' }),
        label: h(
          RouterLink,
          { to: p.path, onClick: () => emit('went'), 'aria-current': here.value[0] === p.path ? 'page' : undefined },
          () => t(`places.${p.name}`),
        ),
        title: t(`places.${p.name}`),
      }))
    if (!places.length) return []
    return group.name ? [{ type: 'group' as const, key: group.name, label: t(`places.group.${group.name}`), children: places }] : places
  }),
)
const here = computed(() => {
  const place = placeOf(route.path)
  return place ? [place.path] : []
})
</script>

<template>
  <nav :aria-label="t('frame.pages')" :class="{ narrow }">
    <slot />
    <Menu mode="inline" :items="items" :selected-keys="here" :inline-collapsed="narrow" />
  </nav>
</template>

<style scoped>
nav :deep(.ant-menu) {
  border-inline-end: 0 !important;
  background: transparent;
}
nav :deep(.ant-menu-item-group-title) {
  font-size: 12px;
  padding: 10px 16px 2px 20px;
  color: var(--soft);
}
nav.narrow :deep(.ant-menu-item-group-title) {
  height: 9px;
  padding: 0;
  overflow: hidden;
  color: transparent;
}
nav :deep(.ant-menu-item) {
  height: 32px;
  line-height: 32px;
  margin-block: 1px;
}
nav :deep(.ant-menu-item a) {
  color: inherit;
}
nav :deep(.ant-menu-item-selected) {
  background: var(--moss-bg);
  color: var(--ink);
  font-weight: 600;
}
</style>
