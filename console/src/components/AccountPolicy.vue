<script setup lang="ts">
import { Button, Modal } from 'ant-design-vue'
import { ref, watch } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'

/** Which policy decides for an account, and why the others do not. */
const props = defineProps<{ account: number }>()
const why = ref<Schemas['Why']>()
const load = () =>
  data(api.GET('/api/v1/accounts/{id}/policy', { params: { path: { id: props.account } } }))
    .then((v) => (why.value = v))
    .catch(() => undefined)
watch(() => props.account, load, { immediate: true })
onChanged(() => void load())
const open = ref(false)
const columns = [
  { key: 'policy', title: t('policies.policy'), content: 'name' as const },
  { key: 'precedence', title: t('policies.precedence'), content: 'number' as const },
  { key: 'because', title: t('policies.because'), content: 'text' as const },
]
</script>

<template>
  <template v-if="why"
    >{{ why.words }}
    <Button v-if="why.policies.length" size="small" type="link" @click="open = true">{{ t('policies.why') }}</Button>
    <Modal v-if="open" open :width="760" :title="t('policies.whyOf', { name: why.account })" :footer="null" @cancel="open = false">
      <p>{{ why.words }}</p>
      <p v-if="why.window">{{ t('policies.alsoPeople', { window: why.window }) }}</p>
      <PlainTable :label="t('places.policies')" :columns="columns" :rows="why.policies" :row-key="(p) => p.policy">
        <template #policy="{ row }"
          ><strong v-if="row.decides">{{ row.policy }}</strong
          ><template v-else>{{ row.policy }}</template></template
        >
      </PlainTable>
    </Modal></template
  >
</template>
