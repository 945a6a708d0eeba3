<script setup lang="ts">
import { BarChart, CustomChart, ScatterChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { ref } from 'vue'
import VChart from 'vue-echarts'

/** The chart library, with the parts of it that we draw with; loaded only where something is drawn. */
use([BarChart, CustomChart, ScatterChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])
defineProps<{ option: Record<string, unknown>; height: number }>()
const emit = defineEmits<{ pick: [series: number, index: number] }>()
const chart = ref<InstanceType<typeof VChart>>()

/** Shows what a mark says, as under the mouse. */
function point(series: number, index: number): void {
  chart.value?.dispatchAction({ type: 'downplay' })
  chart.value?.dispatchAction({ type: 'highlight', seriesIndex: series, dataIndex: index })
  chart.value?.dispatchAction({ type: 'showTip', seriesIndex: series, dataIndex: index })
}
function leave(): void {
  chart.value?.dispatchAction({ type: 'downplay' })
  chart.value?.dispatchAction({ type: 'hideTip' })
}
const picked = (e: { seriesIndex?: number; dataIndex?: number }) =>
  e.seriesIndex !== undefined && e.dataIndex !== undefined && emit('pick', e.seriesIndex, e.dataIndex)
defineExpose({ point, leave })
</script>

<template>
  <VChart
    ref="chart"
    :option="option as never"
    :style="{ height: `${height}px` }"
    autoresize
    :init-options="{ renderer: 'svg' }"
    @click="picked as never"
  />
</template>
