<script setup lang="ts">
import { Form, FormItem, RadioButton, RadioGroup } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { t } from '../texts'
import AccountSelect from './AccountSelect.vue'
import RotatePanel from './RotatePanel.vue'

/** Gives several dependents another log-on: an account in custody, or one of which hosts fetch the password. */
const props = defineProps<{ chosen: Schemas['Dependent'][] }>()
const account = ref<number>()
const sort = ref<'custody' | 'managed'>('custody')
watch(sort, () => (account.value = undefined))
const managed = computed(() => sort.value === 'managed')
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
      ><FormItem :label="t('assign.of')"
        ><RadioGroup v-model:value="sort"
          ><RadioButton value="custody">{{ t('assign.inCustody') }}</RadioButton
          ><RadioButton value="managed">{{ t('assign.managed') }}</RadioButton></RadioGroup
        ></FormItem
      ><FormItem :label="t('assign.let', chosen.length)"
        ><AccountSelect
          :key="sort"
          v-model="account"
          :label="t(managed ? 'assign.managedAccount' : 'assign.account')"
          :filter="[managed ? 'type=managed' : 'custody=true', 'gone=']"
          :empty="t(managed ? 'assign.noManaged' : 'assign.none')" /></FormItem
    ></Form>
    <RotatePanel v-if="account" :key="account" :account="account" :assign="ids" :verb="t('rotate.assignNow')" />
  </div>
</template>
