<script setup lang="ts">
import { computed } from 'vue'
import { t } from '../texts'
import { layout, type Started } from './order'
import { tone } from './words'

const props = defineProps<{ services: Started[]; label: string }>()
const wide = 196
const high = 52
const gapX = 44
const gapY = 14
const drawn = computed(() => layout(props.services))
const x = (layer: number): number => layer * (wide + gapX)
const y = (row: number): number => row * (high + gapY)
const size = computed(() => ({
  width: Math.max(1, ...drawn.value.placed.map((p) => x(p.layer) + wide)) + 2,
  height: Math.max(1, ...drawn.value.placed.map((p) => y(p.row) + high)) + 2,
}))
/** The account without its domain: the whole of it stands in the title. */
function plainName(text: string): string {
  return text.slice(text.lastIndexOf('\\') + 1).split('@')[0]!
}
</script>

<template>
  <div class="scroll" tabindex="0" role="region" :aria-label="label">
    <div class="drawing" :style="{ width: `${size.width}px`, height: `${size.height}px` }">
      <svg :width="size.width" :height="size.height" aria-hidden="true">
        <path
          v-for="(l, i) in drawn.lines"
          :key="i"
          class="line"
          fill="none"
          :d="`M ${x(l.from.layer) + wide} ${y(l.from.row) + high / 2} C ${x(l.from.layer) + wide + gapX / 2} ${y(l.from.row) + high / 2}, ${x(l.to.layer) - gapX / 2} ${y(l.to.row) + high / 2}, ${x(l.to.layer)} ${y(l.to.row) + high / 2}`"
        />
      </svg>
      <RouterLink
        v-for="p in drawn.placed"
        :key="p.id"
        class="box"
        :class="[tone(p.state), { own: p.own }]"
        :to="`/dependents/${p.id}`"
        :style="{ left: `${x(p.layer)}px`, top: `${y(p.row)}px`, width: `${wide}px`, height: `${high}px` }"
        :title="`${p.name}: ${p.state}, ${p.runsAs}${p.needs.length ? ', ' + t('dependents.needs', { names: p.needs.join(', ') }) : ''}`"
      >
        <b>{{ p.name }}</b><span
          >{{ p.state }}<template v-if="p.runsAs"> · {{ plainName(p.runsAs) }}</template></span
        >
      </RouterLink>
    </div>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
  padding-bottom: 4px;
}
.drawing {
  position: relative;
}
.line {
  stroke: var(--soft);
  stroke-width: 1.5;
}
.box {
  position: absolute;
  box-sizing: border-box;
  border: 1px solid var(--line);
  border-left: 4px solid var(--soft);
  border-radius: 5px;
  padding: 5px 8px;
  background: var(--panel);
  color: var(--ink);
  text-decoration: none;
  display: grid;
  align-content: center;
  overflow: hidden;
  white-space: nowrap;
}
.box b,
.box span {
  overflow: hidden;
  text-overflow: ellipsis;
}
.box span {
  color: var(--soft);
  font-size: 12.5px;
}
.box.good {
  border-left-color: var(--good);
}
.box.warn {
  border-left-color: var(--warn);
}
.box.bad {
  border-left-color: var(--bad);
  background: var(--bad-bg);
}
.box.bad span {
  color: var(--ink);
}
.box.own b::after {
  content: ' ●';
  color: var(--moss);
}
.box:hover {
  border-color: var(--moss);
}
</style>
