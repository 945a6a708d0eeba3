<script setup lang="ts">
import { DatePicker } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'

/** A day, or a moment; a component of its own, because calendars are large. */
const model = defineModel<Dayjs>()
defineProps<{ id?: string; time?: boolean }>()
</script>

<template><DatePicker :id="id" v-model:value="model as never" :show-time="time ? { format: 'HH:mm' } : false" /></template>
