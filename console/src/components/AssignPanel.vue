<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, data, Problem, type Schemas } from '../api/client'
import RotatePanel from './RotatePanel.vue'
import Trouble from './Trouble.vue'
import { plural } from './words'

const props = defineProps<{ chosen: Schemas['Dependent'][] }>()
const accounts = ref<Schemas['Account'][]>([])
const account = ref(0)
const trouble = ref('')

data(api.GET('/api/v1/accounts', { params: { query: { filter: ['custody=true', 'gone='], sort: 'name', limit: 500 } } }))
  .then((page) => (accounts.value = page.items))
  .catch((e: unknown) => (trouble.value = e instanceof Problem ? e.message : String(e)))
const ids = ref<number[]>([])
watch(
  () => props.chosen,
  (list) => (ids.value = list.map((d) => d.id)),
  { immediate: true },
)
</script>

<template>
  <div class="panel assign">
    <label class="row"
      ><b>Let {{ plural(chosen.length, 'dependent') }} log on as</b>
      <select v-model="account" class="field">
        <option :value="0" disabled>an account in custody</option>
        <option v-for="a in accounts" :key="a.id" :value="a.id">{{ a.name }} ({{ a.system }})</option>
      </select>
    </label>
    <Trouble :words="trouble" />
    <p v-if="!accounts.length && !trouble" class="soft">No account is in custody yet.</p>
    <RotatePanel v-if="account" :key="account" :account="account" :assign="ids" verb="Assign now" />
  </div>
</template>

<style scoped>
.assign {
  margin-bottom: 12px;
  display: grid;
  gap: 10px;
}
</style>
