<script setup lang="ts">
import { Form, FormItem, Input } from 'ant-design-vue'
import { t } from '../texts'

/** A name that is typed before something is done that touches much. */
defineProps<{ name: string; id: string }>()
const typed = defineModel<string>({ required: true })
</script>

<template>
  <Form layout="vertical"
    ><FormItem :label="t('rotate.typeName', { name })" :html-for="id"><Input :id="id" v-model:value="typed" autocomplete="off" /></FormItem
  ></Form>
</template>
