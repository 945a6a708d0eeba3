import type { Schemas } from '../api/client'
import { t } from '../texts'

type Node = Schemas['Node']
type Edge = Schemas['Edge']

/** What is drawn: a thing, or all of a system in one. */
export interface Drawn {
  id: string
  label: string
  kind: 'account' | 'thing' | 'system'
  of: string
  system: string
  down: boolean
  stale: boolean
  count: number
  x: number
  y: number
  node?: Node
}
export interface Line {
  id: string
  from: string
  to: string
  why: string
}

/** Above so many things, systems begin closed: each is drawn as one. */
export const manyThings = 60

const columnWidth = 300
const rowHeight = 40
/** Higher than this, systems stand on both sides of the account: twice as many are seen at once. */
const oneSide = 1200

/** The last part of a place: a file's name with its key, a unit's name. */
export function short(name: string): string {
  const [path = '', key] = name.split('#')
  const base = path.slice(path.lastIndexOf('/') + 1) || path
  const text = key && key.length < 22 ? `${base} #${key}` : base
  return text.length > 34 ? text.slice(0, 33) + '…' : text
}

/** The end of a path, for places that would read the same otherwise. */
export function tail(name: string): string {
  const path = name.split('#')[0] ?? ''
  return path.length > 36 ? '…' + path.slice(-35) : path
}

/**
 * Lays a picture out: columns by how far away from the account, rows by system,
 * so that the things of a system stand together. Closed systems are one thing.
 */
export function lay(nodes: Node[], edges: Edge[], open: (system: string) => boolean): { drawn: Drawn[]; lines: Line[]; height: number } {
  const drawn: Drawn[] = []
  const stale = new Set(edges.filter((e) => e.strength === 'differs').map((e) => e.to))
  const standsFor = new Map<string, string>()
  const systems = new Map<string, Node[]>()
  for (const n of nodes) {
    if (n.hop === 0) continue
    const list = systems.get(n.system) ?? []
    list.push(n)
    systems.set(n.system, list)
  }
  const high = (system: string, list: Node[]): number => {
    if (!open(system)) return rowHeight * 1.7
    const rows = new Map<number, number>()
    for (const n of list) rows.set(n.hop, (rows.get(n.hop) ?? 0) + 1)
    return Math.max(...rows.values()) * rowHeight + rowHeight * 1.7
  }
  const total = [...systems].reduce((sum, [system, list]) => sum + high(system, list), 0)
  const ends = { right: 0, left: 0 }
  for (const [system, list] of [...systems].sort(([a], [b]) => a.localeCompare(b))) {
    // The lower side is filled next, so that both are about as high.
    const side = total > oneSide && ends.left < ends.right ? 'left' : 'right'
    const away = side === 'left' ? -columnWidth : columnWidth
    const y = ends[side]
    ends[side] += high(system, list)
    if (!open(system)) {
      const id = `s:${system}`
      list.forEach((n) => standsFor.set(n.id, id))
      drawn.push({
        id,
        label: `${system}\n${summary(list)}`,
        kind: 'system',
        of: 'system',
        system,
        down: list.some((n) => n.down),
        stale: list.some((n) => stale.has(n.id)),
        count: list.length,
        x: away,
        y: y + rowHeight / 2,
      })
      continue
    }
    const rows = new Map<number, number>()
    const labels = new Map<string, number>()
    for (const n of list) labels.set(short(n.name), (labels.get(short(n.name)) ?? 0) + 1)
    for (const n of [...list].sort((a, b) => a.hop - b.hop || (a.of ?? '').localeCompare(b.of ?? '') || a.name.localeCompare(b.name))) {
      const row = rows.get(n.hop) ?? 0
      rows.set(n.hop, row + 1)
      standsFor.set(n.id, n.id)
      drawn.push({
        id: n.id,
        label: (labels.get(short(n.name)) ?? 0) > 1 ? tail(n.name) : short(n.name),
        kind: 'thing',
        of: n.of ?? '',
        system,
        down: !!n.down,
        stale: stale.has(n.id),
        count: 1,
        x: away * n.hop,
        y: y + row * rowHeight,
        node: n,
      })
    }
  }
  const height = Math.max(ends.left, ends.right)
  const root = nodes.find((n) => n.hop === 0)
  if (root) {
    standsFor.set(root.id, root.id)
    drawn.unshift({
      id: root.id,
      label: root.name,
      kind: 'account',
      of: 'account',
      system: root.system,
      down: false,
      stale: false,
      count: 1,
      x: 0,
      y: Math.max(0, (height - rowHeight * 2) / 2),
      node: root,
    })
  }
  const seen = new Set<string>()
  const lines: Line[] = []
  for (const e of edges) {
    const from = standsFor.get(e.from)
    const to = standsFor.get(e.to)
    const key = `${from}>${to}>${e.why}`
    if (!from || !to || from === to || seen.has(key)) continue
    seen.add(key)
    lines.push({ id: `e${lines.length}`, from, to, why: e.why })
  }
  return { drawn, lines, height }
}

/** "3 files, 2 units", the most first. */
export function summary(list: Node[]): string {
  const counts = new Map<string, number>()
  for (const n of list) counts.set(n.of ?? 'thing', (counts.get(n.of ?? 'thing') ?? 0) + 1)
  return [...counts]
    .sort((a, b) => b[1] - a[1])
    .map(([of, n]) => t('radius.some', { n, of: n === 1 ? of : of + 's' }))
    .join(', ')
}
