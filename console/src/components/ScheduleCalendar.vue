<script setup lang="ts">
import { LeftOutlined, RightOutlined } from '@ant-design/icons-vue'
import { Button, Calendar } from 'ant-design-vue'
import dayjs, { type Dayjs } from 'dayjs'
import { computed, ref, watch } from 'vue'
import { onChanged } from '../api/changes'
import { api, data, type Schemas } from '../api/client'
import { t } from '../texts'
import PlainTable from './PlainTable.vue'
import Trouble from './Trouble.vue'
import { useWork } from './work'
import { moment } from './words'

/** How many credentials are rotated on which day, by the clock of who looks; a day is chosen to see them. */
const month = ref<Dayjs>(dayjs())
const nights = ref<Schemas['Night'][]>([])
const { trouble, work } = useWork()
const load = () =>
  work('load', async () => {
    const from = month.value.startOf('month').subtract(7, 'day')
    const query = { from: from.toISOString(), until: from.add(50, 'day').toISOString() }
    nights.value = (await data(api.GET('/api/v1/schedule/nights', { params: { query } }))) ?? []
  })
watch(() => month.value.format('YYYY-MM'), load, { immediate: true })
onChanged(() => void load())
const byDay = computed(() => {
  const days = new Map<string, Schemas['Night'][]>()
  for (const n of nights.value) {
    const day = dayjs(n.from).format('YYYY-MM-DD')
    days.set(day, [...(days.get(day) ?? []), n])
  }
  return days
})
const of = (day: Dayjs) => byDay.value.get(day.format('YYYY-MM-DD')) ?? []
const count = (day: Dayjs) => of(day).reduce((sum, n) => sum + n.count, 0)
const chosen = computed(() => of(month.value))
const columns = [
  { key: 'from', title: t('schedule.opens'), content: 'time' as const, width: 170 },
  { key: 'to', title: t('schedule.closes'), content: 'time' as const, width: 170 },
  { key: 'policy', title: t('policies.policy'), content: 'system' as const },
  { key: 'count', title: t('places.rotations'), content: 'number' as const },
  { key: 'credentials', title: t('places.credentials'), content: 'text' as const },
]
</script>

<template>
  <Trouble :words="trouble" />
  <section class="panel">
    <Calendar v-model:value="month" :fullscreen="true" class="calendar">
      <template #headerRender>
        <div class="row head">
          <Button :aria-label="t('schedule.monthBefore')" @click="month = month.subtract(1, 'month')"
            ><LeftOutlined aria-hidden="true"
          /></Button>
          <strong role="status">{{ month.format('MMMM YYYY') }}</strong>
          <Button :aria-label="t('schedule.monthAfter')" @click="month = month.add(1, 'month')"
            ><RightOutlined aria-hidden="true"
          /></Button>
        </div>
      </template>
      <template #dateCellRender="{ current }"
        ><span v-if="count(current)" class="count">{{ t('schedule.rotations', count(current)) }}</span></template
      >
    </Calendar>
  </section>
  <section class="panel">
    <h2>{{ month.format('dddd, D MMMM YYYY') }}</h2>
    <PlainTable
      :label="t('schedule.ofDay')"
      :columns="columns"
      :rows="chosen"
      :row-key="(n) => n.from + n.policy"
      :empty="t('schedule.noneThatDay')"
    >
      <template #from="{ row }">{{ moment(row.from) }}</template>
      <template #to="{ row }">{{ moment(row.to) }}</template>
      <template #credentials="{ row }"
        >{{ row.credentials.join(', ') }}
        <span v-if="row.count > row.credentials.length" class="soft">{{
          t('schedule.andMore', row.count - row.credentials.length)
        }}</span></template
      >
    </PlainTable>
  </section>
</template>

<style scoped>
.head {
  padding-bottom: 8px;
}
.head strong {
  min-width: 150px;
  text-align: center;
}
.panel + .panel {
  margin-top: 14px;
}
h2 {
  font-size: 16px;
  margin: 0 0 8px;
}
.calendar :deep(.ant-picker-calendar-date-content) {
  height: 34px;
}
.calendar :deep(.ant-picker-calendar-date-today .ant-picker-calendar-date-value) {
  color: var(--ink) !important;
  font-weight: 600;
}
.count {
  font-size: 12px;
  font-weight: 600;
}
</style>
