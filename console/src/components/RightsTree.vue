<script setup lang="ts">
import { Empty } from 'ant-design-vue'
import { ref } from 'vue'
import { onChanged } from '../api/changes'
import { api, data } from '../api/client'
import { t } from '../texts'
import { type OfAccount } from './rights'
import RightsNodes from './RightsNodes.vue'
import RightsRead from './RightsRead.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** What an account may do, by itself and through groups, with the chain to each; and what hosts give it that know it. */
const props = defineProps<{ account: number; name: string }>()
const rights = ref<OfAccount>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    rights.value = await data(api.GET('/api/v1/accounts/{id}/rights', { params: { path: { id: props.account } } }))
  })
void load()
onChanged(() => void load())
</script>

<template>
  <section class="panel">
    <Trouble :words="trouble" retry @again="load" />
    <template v-if="rights">
      <RightsNodes :rights="rights" :label="t('rights.treeOf', { name })">
        <Empty :image="Empty.PRESENTED_IMAGE_SIMPLE"
          ><template #description
            ><span class="soft">{{ t('rights.none', { name }) }}</span></template
          ></Empty
        >
      </RightsNodes>
      <p v-if="rights.more" class="soft">{{ t('rights.more', rights.more) }}</p>
      <RightsRead :read="rights.read" :system="rights.system" />
    </template>
  </section>
  <section v-for="there in rights?.elsewhere" :key="there.system" class="panel">
    <h2>{{ t('rights.elsewhere', { system: there.system, name: there.name }) }}</h2>
    <RightsNodes :rights="there" :label="t('rights.treeOf', { name: there.name })">
      <p class="soft">{{ t('rights.none', { name: there.name }) }}</p>
    </RightsNodes>
    <p v-if="there.more" class="soft">{{ t('rights.more', there.more) }}</p>
    <RightsRead :read="there.read" :system="there.system" />
  </section>
</template>

<style scoped>
.panel + .panel {
  margin-top: 12px;
}
</style>
