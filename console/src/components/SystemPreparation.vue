<script setup lang="ts">
import { Drawer, Empty, TypographyParagraph } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import StateTag from './StateTag.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'

/** What the owner of a system does so that it can be read and changed, as texts to be copied. */
const props = defineProps<{ name: string }>()
const emit = defineEmits<{ close: [] }>()
const list = ref<Schemas['Preparation'][]>()
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    list.value = (await data(api.GET('/api/v1/systems/{name}/preparation', { params: { path: { name: props.name } } }))) ?? []
  })
void load()
const lined = (text: string) => text.replace(/\n$/, '')
</script>

<template>
  <Drawer open width="min(900px, 100vw)" :title="t('preparation.title', { name })" @close="emit('close')">
    <p>{{ t('preparation.lead') }}</p>
    <Trouble :words="trouble" retry @again="load" />
    <Empty v-if="list && !list.length" :description="t('preparation.none')" />
    <section v-for="(p, i) in list ?? []" :key="i">
      <p>
        <StateTag :state="t(`preparation.for.${p.for}`)" as="plain" /> {{ p.what }} <span class="soft where">{{ p.where }}</span>
      </p>
      <TypographyParagraph :copyable="{ text: lined(p.text), tooltip: false }" class="text">
        <pre class="mono" tabindex="0">{{ lined(p.text) }}</pre>
      </TypographyParagraph>
    </section>
  </Drawer>
</template>

<style scoped>
.where {
  display: block;
}
.text {
  display: flex;
  gap: 8px;
  align-items: start;
}
.text pre {
  flex: 1 1 auto;
  min-width: 0;
  margin: 0;
  padding: 6px 10px;
  overflow-x: auto;
  background: var(--raised);
  border: 1px solid var(--line);
  border-radius: 6px;
}
</style>
