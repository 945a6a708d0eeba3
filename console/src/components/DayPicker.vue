<script setup lang="ts">
import { DatePicker } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'

/** A day; a component of its own, because calendars are large. */
const model = defineModel<Dayjs>()
defineProps<{ id?: string }>()
</script>

<template><DatePicker :id="id" v-model:value="model as never" /></template>
