<script setup lang="ts">
import { Form, FormItem } from 'ant-design-vue'
import { ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import AccountSelect from './AccountSelect.vue'
import RotatePanel from './RotatePanel.vue'

/** Gives several dependents another log-on: an account in custody. */
const props = defineProps<{ chosen: Schemas['Dependent'][] }>()
const account = ref<number>()
const ids = ref<number[]>([])
watch(
  () => props.chosen,
  (list) => (ids.value = list.map((d) => d.id)),
  { immediate: true },
)
</script>

<template>
  <div class="assign">
    <Form layout="vertical"
      ><FormItem :label="t('assign.let', chosen.length)"
        ><AccountSelect
          v-model="account"
          :label="t('assign.account')"
          :filter="['custody=true', 'gone=']"
          :empty="t('assign.none')" /></FormItem
    ></Form>
    <RotatePanel v-if="account" :key="account" :account="account" :assign="ids" :verb="t('rotate.assignNow')" />
  </div>
</template>
