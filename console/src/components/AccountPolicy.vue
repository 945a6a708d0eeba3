<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { defineAsyncComponent, ref, watch } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'

/** Which policy decides for an account, and why the others do not. */
const AccountPolicyWhy = defineAsyncComponent(() => import('./AccountPolicyWhy.vue'))
const props = defineProps<{ account: number }>()
const why = ref<Schemas['Why']>()
const load = () =>
  data(api.GET('/api/v1/accounts/{id}/policy', { params: { path: { id: props.account } } }))
    .then((v) => (why.value = v))
    .catch(() => undefined)
watch(() => props.account, load, { immediate: true })
onChanged(() => void load())
const open = ref(false)
</script>

<template>
  <template v-if="why"
    >{{ why.words }}
    <Button v-if="why.policies.length" size="small" type="link" @click="open = true">{{ t('policies.why') }}</Button>
    <AccountPolicyWhy v-if="open" :why="why" @close="open = false"
  /></template>
</template>
