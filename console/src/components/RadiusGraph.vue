<script setup lang="ts">
import cytoscape, { type Core } from 'cytoscape'
import { Button } from 'ant-design-vue'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { saveURL } from '../lists/exporting'
import { dark } from '../state/appearance'
import { t } from '../texts'
import { lay } from './picture'
import { colour, style } from './radius_style'

/** The picture itself. What it shows stands in the list beside it too. */
const props = defineProps<{ nodes: Schemas['Node'][]; edges: Schemas['Edge'][]; open: Set<string>; chosen?: string }>()
const emit = defineEmits<{ choose: [id: string]; system: [name: string] }>()
const box = ref<HTMLDivElement>()
let core: Core | undefined

/** Smaller than this, words cannot be read. */
const readable = 0.85

function draw(): void {
  if (!core) return
  const { drawn, lines } = lay(props.nodes, props.edges, (s) => props.open.has(s))
  const boxes = new Set(drawn.filter((d) => d.kind === 'thing').map((d) => d.system))
  core.json({ elements: [] })
  core.elements().remove()
  core.add([
    ...[...boxes].map((s) => ({ data: { id: `b:${s}`, label: s, kind: 'box', system: s } })),
    ...drawn.map((d) => ({
      data: {
        id: d.id,
        label: d.label,
        kind: d.kind,
        of: d.of,
        system: d.system,
        down: d.down,
        stale: d.stale,
        parent: d.kind === 'thing' ? `b:${d.system}` : undefined,
      },
      position: { x: d.x, y: d.y },
    })),
    ...lines.map((l) => ({ data: { id: l.id, source: l.from, target: l.to, why: l.why, label: lines.length > 40 ? '' : l.why } })),
  ])
  core.style(style())
  core.fit(undefined, 24)
  // Small pictures are not blown up, large ones begin readable around the account.
  if (core.zoom() > 1)
    core.zoom({ level: 1, renderedPosition: { x: (box.value?.clientWidth ?? 0) / 2, y: (box.value?.clientHeight ?? 0) / 2 } })
  if (core.zoom() < readable) {
    core.zoom(readable)
    core.center(core.nodes('[kind = "account"]'))
    // Where all stands on one side, that side gets the room.
    const bounds = core.elements().boundingBox()
    const at = core.nodes('[kind = "account"]').first().renderedPosition()
    if (at && bounds.x1 > -200) core.panBy({ x: 120 - at.x, y: 0 })
  }
  map()
}

/** The whole picture, small, with what is seen of it framed: shown once not all of it fits. */
const small = ref({ image: '', width: 0, height: 0 })
const frame = ref({ left: 0, top: 0, width: 0, height: 0 })
const mapWidth = 150
let bounds = { x1: 0, y1: 0, w: 1, h: 1 }
function map(): void {
  if (!core || core.elements().empty()) return
  bounds = core.elements().boundingBox()
  const scale = Math.min(mapWidth / bounds.w, 150 / bounds.h)
  small.value = {
    image: core.png({ full: true, maxWidth: 300, maxHeight: 300, bg: colour('--panel') }),
    width: bounds.w * scale,
    height: bounds.h * scale,
  }
  see()
}
function see(): void {
  if (!core) return
  const seen = core.extent()
  const scale = small.value.width / bounds.w
  frame.value = { left: (seen.x1 - bounds.x1) * scale, top: (seen.y1 - bounds.y1) * scale, width: seen.w * scale, height: seen.h * scale }
}
const outside = computed(
  () =>
    frame.value.left > 4 || frame.value.top > 4 || frame.value.width < small.value.width - 8 || frame.value.height < small.value.height - 8,
)
function jump(e: MouseEvent): void {
  if (!core) return
  const box = (e.currentTarget as HTMLElement).getBoundingClientRect()
  const scale = small.value.width / bounds.w
  const x = bounds.x1 + (e.clientX - box.left) / scale
  const y = bounds.y1 + (e.clientY - box.top) / scale
  core.pan({ x: core.width() / 2 - x * core.zoom(), y: core.height() / 2 - y * core.zoom() })
}

/** Arrow keys walk from thing to thing: up and down in a column, left and right along lines. */
const at = ref('')
function walk(dx: number, dy: number): void {
  if (!core) return
  const all = core.nodes('[kind != "box"]')
  const here = at.value ? core.getElementById(at.value) : all.first()
  if (!at.value) return stand(here.id())
  const from = here.position()
  let best: cytoscape.NodeSingular | undefined
  let least = Infinity
  all.forEach((n) => {
    const p = n.position()
    const along = dx ? (p.x - from.x) * dx : (p.y - from.y) * dy
    const aside = Math.abs(dx ? p.y - from.y : p.x - from.x)
    if (along <= 1 || (dy && aside > 40)) return
    const far = along + aside * 2
    if (far < least) {
      least = far
      best = n
    }
  })
  if (best) stand(best.id())
}
function stand(id: string): void {
  at.value = id
  core?.elements().unselect()
  const n = core?.getElementById(id)
  n?.select()
  if (core && n && !n.empty()) {
    const p = n.renderedPosition()
    if (p.x < 60 || p.y < 30 || p.x > core.width() - 60 || p.y > core.height() - 30) core.center(n)
  }
}
const spoken = computed(() => (at.value ? String(core?.getElementById(at.value).data('label') ?? '') : ''))
function keyed(e: KeyboardEvent): void {
  const keys: Record<string, () => void> = {
    ArrowRight: () => walk(1, 0),
    ArrowLeft: () => walk(-1, 0),
    ArrowDown: () => walk(0, 1),
    ArrowUp: () => walk(0, -1),
    '+': () => core?.zoom({ level: core.zoom() * 1.25, renderedPosition: { x: core.width() / 2, y: core.height() / 2 } }),
    '-': () => core?.zoom({ level: core.zoom() / 1.25, renderedPosition: { x: core.width() / 2, y: core.height() / 2 } }),
    '0': () => core?.fit(undefined, 24),
    Enter: () => {
      const n = core?.getElementById(at.value).data() as { id: string; kind: string; system: string } | undefined
      if (n?.kind === 'system') emit('system', n.system)
      else if (n) emit('choose', n.id)
    },
    Escape: () => emit('choose', ''),
  }
  const act = keys[e.key]
  if (!act) return
  e.preventDefault()
  act()
}
const zoom = (by: number) => core?.zoom({ level: core.zoom() * by, renderedPosition: { x: core.width() / 2, y: core.height() / 2 } })

onMounted(() => {
  core = cytoscape({
    container: box.value,
    layout: { name: 'preset' },
    minZoom: 0.05,
    maxZoom: 2.5,
    autoungrabify: true,
    boxSelectionEnabled: false,
  })
  core.on('tap', 'node', (e) => {
    const at = e.target.data() as { id: string; kind: string; system: string }
    if (at.kind === 'system' || at.kind === 'box') emit('system', at.system)
    else emit('choose', at.id)
  })
  core.on('viewport', see)
  void nextTick(draw)
})
onBeforeUnmount(() => core?.destroy())
watch(() => [props.nodes, props.edges, [...props.open].join('|')], draw)
watch(
  dark,
  () =>
    void nextTick(() => {
      core?.style(style())
      map()
    }),
)
watch(
  () => props.chosen,
  (id) => {
    core?.elements().unselect()
    if (id) core?.getElementById(id).select()
  },
)
function keep(name: string): void {
  if (core) saveURL(`${name}.png`, core.png({ full: true, scale: 2, maxWidth: 8000, maxHeight: 8000, bg: colour('--panel') }))
}
defineExpose({ fit: () => core?.fit(undefined, 24), keep })
</script>

<template>
  <div class="whole">
    <div ref="box" class="graph" role="application" tabindex="0" :aria-label="t('radius.walk')" @keydown="keyed"></div>
    <p class="visually-hidden" aria-live="polite">{{ spoken }}</p>
    <div class="zoom">
      <Button size="small" :aria-label="t('radius.nearer')" @click="zoom(1.25)">+</Button
      ><Button size="small" :aria-label="t('radius.farther')" @click="zoom(0.8)">−</Button>
    </div>
    <div
      v-if="outside && small.image"
      class="map"
      :style="{ width: `${small.width}px`, height: `${small.height}px` }"
      :title="t('radius.map')"
      @click="jump"
    >
      <img :src="small.image" alt="" /><i
        :style="{ left: `${frame.left}px`, top: `${frame.top}px`, width: `${frame.width}px`, height: `${frame.height}px` }"
      />
    </div>
  </div>
</template>

<style scoped>
.whole {
  position: relative;
}
.graph {
  height: 520px;
  width: 100%;
  background: var(--panel);
  border: 1px solid var(--line);
  border-radius: 6px;
}
.zoom {
  position: absolute;
  left: 8px;
  top: 8px;
  display: grid;
  gap: 4px;
}
.map {
  position: absolute;
  right: 8px;
  bottom: 8px;
  overflow: hidden;
  border: 1px solid var(--soft);
  border-radius: 4px;
  background: var(--panel);
  cursor: pointer;
}
.map img {
  width: 100%;
  height: 100%;
}
.map i {
  position: absolute;
  border: 2px solid var(--moss);
  background: rgb(128 160 110 / 15%);
}
</style>
