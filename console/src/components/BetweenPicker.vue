<script setup lang="ts">
import { RangePicker } from 'ant-design-vue'
import dayjs, { type Dayjs } from 'dayjs'
import { t } from '../texts'

/** Two moments, as the address has them; a component of its own, because calendars are large. */
const props = defineProps<{ since?: string; until?: string }>()
const emit = defineEmits<{ choose: [since: string | undefined, until: string | undefined] }>()
const shown = (text?: string) => (text ? dayjs(text) : undefined)
const chosen = (value: unknown) => {
  const [since, until] = (value ?? []) as (Dayjs | null)[]
  emit('choose', since?.toISOString(), until?.toISOString())
}
</script>

<template>
  <RangePicker
    :value="[shown(props.since), shown(props.until)] as never"
    show-time
    :allow-empty="[true, true]"
    format="YYYY-MM-DD HH:mm"
    :aria-label="t('changes.between')"
    @change="chosen"
  />
</template>
