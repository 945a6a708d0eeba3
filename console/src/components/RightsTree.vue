<script setup lang="ts">
import { Empty, Tree } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data } from '../api/client'
import { t } from '../texts'
import { tree, type Node, type OfAccount } from './rights'
import RightsRead from './RightsRead.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** What an account may do, by itself and through groups, with the chain to each. */
const props = defineProps<{ account: number; name: string }>()
const rights = ref<OfAccount>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    rights.value = await data(api.GET('/api/v1/accounts/{id}/rights', { params: { path: { id: props.account } } }))
  })
void load()
onChanged(() => void load())
const nodes = computed(() => (rights.value ? tree(rights.value) : []))
const keys = (list: Node[]): string[] => list.flatMap((n) => (n.children ? [n.key, ...keys(n.children)] : []))
const opened = computed(() => (rights.value && rights.value.rights.length <= 200 ? keys(nodes.value) : []))
</script>

<template>
  <section class="panel">
    <Trouble :words="trouble" retry @again="load" />
    <template v-if="rights">
      <Tree
        v-if="nodes.length"
        :key="rights.rights.length"
        :tree-data="nodes as never"
        :default-expanded-keys="opened"
        :selectable="false"
        block-node
        :aria-label="t('rights.treeOf', { name })"
      >
        <template #title="{ dataRef }">
          <span :class="{ group: dataRef.group, void: dataRef.void }">{{ dataRef.title }}</span>
          <span v-if="dataRef.more" class="soft">{{ ' ' }}{{ dataRef.more }}</span>
          <span v-if="dataRef.group && !dataRef.children.length" class="soft">{{ ' ' }}{{ t('rights.givesNothing') }}</span>
          <div v-if="dataRef.text" class="mono soft text">{{ dataRef.text }}</div>
        </template>
      </Tree>
      <Empty v-else :image="Empty.PRESENTED_IMAGE_SIMPLE"
        ><template #description
          ><span class="soft">{{ t('rights.none', { name }) }}</span></template
        ></Empty
      >
      <p v-if="rights.more" class="soft">{{ t('rights.more', rights.more) }}</p>
      <RightsRead :read="rights.read" :system="rights.system" />
    </template>
  </section>
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
