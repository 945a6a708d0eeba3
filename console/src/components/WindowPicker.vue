<script setup lang="ts">
import { RangePicker } from 'ant-design-vue'
import type { Dayjs } from 'dayjs'
import { t } from '../texts'

/** From when to when; a component of its own, because few ask for a window and calendars are large. */
const model = defineModel<[Dayjs, Dayjs]>()
</script>

<template><RangePicker v-model:value="model as never" show-time format="YYYY-MM-DD HH:mm" :aria-label="t('rotate.window')" /></template>
