<script setup lang="ts">
import { Select } from 'ant-design-vue'
import { ref } from 'vue'
import { api, data } from '../api/client'
import { t } from '../texts'

/** A system that issues certificates. */
const model = defineModel<string>()
const list = ref<{ value: string; label: string }[]>([])
const loading = ref(true)
const failed = ref('')

async function load(): Promise<void> {
  try {
    const page = await data(api.GET('/api/v1/systems', { params: { query: { filter: ['kind=certificate-authority'], limit: 100 } } }))
    list.value = page.items.map((v) => ({ value: v.name, label: v.name }))
  } catch (e) {
    failed.value = e instanceof Error ? e.message : String(e)
  } finally {
    loading.value = false
  }
}
void load()
</script>

<template>
  <Select
    v-model:value="model"
    :options="list"
    :loading="loading"
    :placeholder="t('rotate.authorityAsBefore')"
    :aria-label="t('rotate.authority')"
    :not-found-content="failed || undefined"
    allow-clear
    class="authority"
  />
</template>

<style scoped>
.authority {
  min-width: 170px;
}
</style>
