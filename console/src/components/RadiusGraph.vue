<script setup lang="ts">
import cytoscape, { type Core } from 'cytoscape'
import { nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { dark } from '../state/appearance'
import { lay } from './picture'

/** The picture itself. What it shows stands in the list beside it too. */
const props = defineProps<{ nodes: Schemas['Node'][]; edges: Schemas['Edge'][]; open: Set<string>; chosen?: string }>()
const emit = defineEmits<{ choose: [id: string]; system: [name: string] }>()
const box = ref<HTMLDivElement>()
let core: Core | undefined

function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim()
}

function style(): cytoscape.StylesheetJson {
  const ink = colour('--ink')
  const line = colour('--soft')
  return [
    {
      selector: 'node',
      style: {
        shape: 'round-rectangle',
        width: 236,
        height: 28,
        label: 'data(label)',
        'text-valign': 'center',
        'text-halign': 'center',
        'font-size': 12,
        color: ink,
        'background-color': colour('--panel'),
        'border-width': 1,
        'border-color': line,
        'text-wrap': 'wrap',
        'text-max-width': '228px',
        'font-family': 'system-ui, "DejaVu Sans", sans-serif',
      },
    },
    {
      selector: 'node[kind = "account"]',
      style: {
        shape: 'ellipse',
        height: 44,
        'background-color': colour('--good-bg'),
        'border-color': colour('--moss'),
        'border-width': 2,
        'font-weight': 'bold',
        width: 190,
      },
    },
    {
      selector: 'node[kind = "system"]',
      style: { height: 50, 'background-color': colour('--plain-bg'), 'border-style': 'double', 'border-width': 4 },
    },
    { selector: 'node[of = "file"]', style: { shape: 'rectangle', 'border-style': 'dashed' } },
    { selector: 'node[?stale]', style: { 'background-color': colour('--warn-bg'), 'border-color': colour('--warn') } },
    { selector: 'node[?down]', style: { 'background-color': colour('--bad-bg'), 'border-color': colour('--bad'), 'border-width': 2 } },
    {
      selector: 'node[kind = "box"]',
      style: {
        shape: 'round-rectangle',
        'background-color': colour('--plain-bg'),
        'background-opacity': 0.55,
        'border-width': 0,
        'text-valign': 'top',
        'text-halign': 'center',
        'font-weight': 'bold',
        padding: '10px',
        'text-margin-y': -2,
      },
    },
    { selector: 'node:selected', style: { 'border-color': colour('--moss'), 'border-width': 3 } },
    {
      selector: 'edge',
      style: {
        width: 1.3,
        'line-color': line,
        'target-arrow-color': line,
        'target-arrow-shape': 'triangle',
        'arrow-scale': 0.8,
        'curve-style': 'bezier',
        label: 'data(why)',
        'font-size': 10,
        color: ink,
        'text-background-color': colour('--panel'),
        'text-background-opacity': 0.9,
        'text-background-padding': '2px',
        'text-rotation': 'none',
      },
    },
    { selector: 'edge[why = "observed"]', style: { 'line-style': 'dashed' } },
    { selector: 'edge[why = "declared"]', style: { 'line-style': 'dotted' } },
  ]
}

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
    ...lines.map((l) => ({ data: { id: l.id, source: l.from, target: l.to, why: l.why } })),
  ])
  core.style(style())
  core.fit(undefined, 24)
  // Small pictures are not blown up, large ones begin readable at their top left.
  if (core.zoom() > 1)
    core.zoom({ level: 1, renderedPosition: { x: (box.value?.clientWidth ?? 0) / 2, y: (box.value?.clientHeight ?? 0) / 2 } })
  if (core.zoom() < 0.55) {
    core.zoom(0.55)
    core.pan({ x: 90, y: 30 })
  }
}

onMounted(() => {
  core = cytoscape({
    container: box.value,
    layout: { name: 'preset' },
    minZoom: 0.05,
    maxZoom: 2.5,
    wheelSensitivity: 0.3,
    autoungrabify: true,
    boxSelectionEnabled: false,
  })
  core.on('tap', 'node', (e) => {
    const at = e.target.data() as { id: string; kind: string; system: string }
    if (at.kind === 'system' || at.kind === 'box') emit('system', at.system)
    else emit('choose', at.id)
  })
  void nextTick(draw)
})
onBeforeUnmount(() => core?.destroy())
watch(() => [props.nodes, props.edges, [...props.open].join('|')], draw)
watch(dark, () => void nextTick(() => core?.style(style())))
watch(
  () => props.chosen,
  (id) => {
    core?.elements().unselect()
    if (id) core?.getElementById(id).select()
  },
)
defineExpose({ fit: () => core?.fit(undefined, 24) })
</script>

<template>
  <div ref="box" class="graph" role="img" aria-label="Picture of what would be touched; the same stands in the list below"></div>
</template>

<style scoped>
.graph {
  height: 520px;
  width: 100%;
  background: var(--panel);
  border: 1px solid var(--line);
  border-radius: 6px;
}
</style>
