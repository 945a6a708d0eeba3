<script setup lang="ts">
import { Select } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'

/** One account, searched for at the service as one types. */
const props = defineProps<{ label: string; filter?: string[]; empty: string }>()
const model = defineModel<number>()
const found = ref<Schemas['Account'][]>([])
const trouble = ref('')
const busy = ref(false)
let turn = 0
async function look(search: string): Promise<void> {
  const mine = ++turn
  busy.value = true
  try {
    const page = await data(
      api.GET('/api/v1/accounts', { params: { query: { filter: props.filter, search: search || undefined, sort: 'name', limit: 50 } } }),
    )
    if (mine === turn) found.value = page.items
    trouble.value = ''
  } catch (e) {
    trouble.value = e instanceof Error ? e.message : String(e)
  } finally {
    if (mine === turn) busy.value = false
  }
}
void look('')
const options = computed(() => found.value.map((a) => ({ value: a.id, label: t('assign.option', { name: a.name, system: a.system }) })))
</script>

<template>
  <Select
    v-model:value="model"
    show-search
    :filter-option="false"
    :options="options"
    :loading="busy"
    :placeholder="label"
    :aria-label="label"
    :not-found-content="trouble || empty"
    class="select"
    @search="look"
  />
</template>

<style scoped>
.select {
  min-width: 280px;
  width: 100%;
}
</style>
