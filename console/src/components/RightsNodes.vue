<script setup lang="ts">
import { Tree } from 'ant-design-vue'
import { computed } from 'vue'
import { t } from '../texts'
import { tree, type Node, type OfAccount } from './rights'

/** What somebody may do on one system, as a tree along its groups. */
const props = defineProps<{ rights: Pick<OfAccount, 'groups' | 'rights'>; label: string }>()
const nodes = computed(() => tree(props.rights))
const keys = (list: Node[]): string[] => list.flatMap((n) => (n.children ? [n.key, ...keys(n.children)] : []))
const opened = computed(() => (props.rights.rights.length <= 200 ? keys(nodes.value) : []))
</script>

<template>
  <Tree
    v-if="nodes.length"
    :key="rights.rights.length"
    :tree-data="nodes as never"
    :default-expanded-keys="opened"
    :selectable="false"
    block-node
    :aria-label="label"
  >
    <template #title="{ dataRef }">
      <span :class="{ group: dataRef.group, void: dataRef.void }">{{ dataRef.title }}</span>
      <span v-if="dataRef.more" class="soft">{{ ' ' }}{{ dataRef.more }}</span>
      <span v-if="dataRef.group && !dataRef.children.length" class="soft">{{ ' ' }}{{ t('rights.givesNothing') }}</span>
      <div v-if="dataRef.text" class="mono soft text">{{ dataRef.text }}</div>
    </template>
  </Tree>
  <slot v-else />
</template>

<style scoped>
.group {
  font-weight: 600;
}
.void {
  text-decoration: line-through;
}
.text {
  overflow-wrap: anywhere;
  font-size: 12px;
}
</style>
