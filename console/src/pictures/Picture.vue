<script setup lang="ts">
import { DownloadOutlined } from '@ant-design/icons-vue'
import { Button, Collapse, CollapsePanel, Empty } from 'ant-design-vue'
import { computed, defineAsyncComponent, nextTick, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import PlainTable from '../components/PlainTable.vue'
import { save } from '../lists/exporting'
import { t } from '../texts'
import type { Drawing } from './drawing'

/** A drawing that answers the question above it; arrow keys walk its marks, and the table under it has the same. */
const Chart = defineAsyncComponent(() => import('./Chart.vue'))
const props = defineProps<{ question: string; drawing?: Drawing; empty: string; columns?: [string, string, string] }>()
const router = useRouter()
// Drawing needs a large library: it is fetched when the picture comes into view.
const place = ref<HTMLElement>()
const seen = ref(false)
let watching: IntersectionObserver | undefined
onMounted(() => {
  if (!('IntersectionObserver' in window) || !place.value) {
    seen.value = true
    return
  }
  watching = new IntersectionObserver((entries) => {
    if (!entries.some((e) => e.isIntersecting)) return
    seen.value = true
    watching?.disconnect()
  })
  watching.observe(place.value)
})
onBeforeUnmount(() => watching?.disconnect())
const chart = ref<{ point: (s: number, i: number) => void; leave: () => void }>()
const box = ref<HTMLElement>()
const at = ref(-1)
const mark = computed(() => props.drawing?.marks[at.value])

function walk(by: number): void {
  const all = props.drawing?.marks ?? []
  if (!all.length) return
  at.value = at.value < 0 ? (by > 0 ? 0 : all.length - 1) : (at.value + by + all.length) % all.length
  chart.value?.point(all[at.value]!.series, all[at.value]!.index)
}
function keyed(e: KeyboardEvent): void {
  if (e.key === 'ArrowRight' || e.key === 'ArrowDown') walk(1)
  else if (e.key === 'ArrowLeft' || e.key === 'ArrowUp') walk(-1)
  else if (e.key === 'Enter' && mark.value?.to) void router.push(mark.value.to)
  else return
  e.preventDefault()
}
function leave(): void {
  at.value = -1
  chart.value?.leave()
}
function pick(series: number, index: number): void {
  const to = props.drawing?.marks.find((m) => m.series === series && m.index === index)?.to
  if (to) void router.push(to)
}
async function keep(): Promise<void> {
  leave()
  await nextTick()
  const svg = box.value?.querySelector('svg')
  if (!svg) return
  const copy = svg.cloneNode(true) as SVGElement
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
  save(props.question.toLowerCase().replaceAll(/[^a-z0-9]+/g, '-') + '.svg', 'image/svg+xml', copy.outerHTML)
}
const columns = computed(() => {
  const titles = props.columns ?? [t('pictures.name'), t('pictures.part'), t('pictures.count')]
  const parts = new Set(props.drawing?.marks.map((m) => m.part))
  return [
    { key: 'name', title: titles[0], content: 'name' as const },
    ...(parts.size > 1 ? [{ key: 'part', title: titles[1], content: 'system' as const }] : []),
    { key: 'value', title: titles[2], content: 'system' as const },
  ]
})
</script>

<template>
  <section ref="place" class="panel picture">
    <div class="row spread">
      <h2>{{ question }}</h2>
      <Button
        v-if="drawing?.marks.length"
        type="text"
        size="small"
        :aria-label="t('pictures.keep', { question })"
        :title="t('pictures.keepTitle')"
        @click="keep"
        ><DownloadOutlined aria-hidden="true"
      /></Button>
    </div>
    <template v-if="drawing?.marks.length">
      <div
        ref="box"
        class="box"
        role="application"
        tabindex="0"
        :aria-label="t('pictures.walk', { question })"
        :style="{ minHeight: `${drawing.height}px` }"
        @keydown="keyed"
        @blur="leave"
      >
        <Chart v-if="seen" ref="chart" :option="drawing.option" :height="drawing.height" @pick="pick" />
      </div>
      <p class="visually-hidden" aria-live="polite">{{ mark ? [mark.name, mark.part, mark.value].join(': ') : '' }}</p>
      <Collapse ghost class="same">
        <CollapsePanel key="table" :header="t('pictures.same')">
          <PlainTable :label="question" :columns="columns" :rows="drawing.marks" :row-key="(m) => `${m.series}-${m.index}`" :size="20">
            <template #name="{ row }"
              ><RouterLink v-if="row.to" :to="row.to">{{ row.name }}</RouterLink
              ><template v-else>{{ row.name }}</template></template
            >
          </PlainTable>
        </CollapsePanel>
      </Collapse>
    </template>
    <Empty v-else :image="Empty.PRESENTED_IMAGE_SIMPLE"
      ><template #description
        ><span class="soft">{{ empty }}</span></template
      ></Empty
    >
  </section>
</template>

<style scoped>
.picture {
  min-width: 0;
}
h2 {
  margin: 0 0 6px;
}
.same :deep(.ant-collapse-header) {
  padding: 4px 0 !important;
  color: var(--soft) !important;
  font-size: 12.5px;
}
.same :deep(.ant-collapse-content-box) {
  padding: 4px 0 0 !important;
}
</style>
