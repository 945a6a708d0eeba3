import type { Schemas } from '../api/client'

/** A dependent as the drawing of a start order needs it. */
export interface Started {
  id: number
  name: string
  state: string
  runsAs: string
  needs: string[]
  /** It logs on as the account that the page is about. */
  own: boolean
}

export interface Placed extends Started {
  layer: number
  row: number
}

export interface Line {
  from: Placed
  to: Placed
}

export function startedOf(d: Schemas['Dependent'], own: boolean): Started {
  return { id: d.id, name: d.place, state: d.state ?? '', runsAs: d.runs_as ?? '', needs: d.requires ?? [], own }
}

/** Lays services out from left to right: each stands right of all that it needs. Circles are cut where they close. */
export function layout(all: Started[]): { placed: Placed[]; lines: Line[] } {
  const byName = new Map(all.map((s) => [s.name.toLowerCase(), s]))
  const layers = new Map<string, number>()
  const onPath = new Set<string>()
  const depth = (s: Started): number => {
    const key = s.name.toLowerCase()
    const known = layers.get(key)
    if (known !== undefined) return known
    if (onPath.has(key)) return 0
    onPath.add(key)
    let layer = 0
    for (const need of s.needs) {
      const before = byName.get(need.toLowerCase())
      if (before) layer = Math.max(layer, depth(before) + 1)
    }
    onPath.delete(key)
    layers.set(key, layer)
    return layer
  }
  const rows = new Map<number, number>()
  const placed = all.map((s) => {
    const layer = depth(s)
    const row = rows.get(layer) ?? 0
    rows.set(layer, row + 1)
    return { ...s, layer, row }
  })
  const at = new Map(placed.map((p) => [p.name.toLowerCase(), p]))
  const lines = placed.flatMap((to) => to.needs.flatMap((n) => (at.has(n.toLowerCase()) ? [{ from: at.get(n.toLowerCase())!, to }] : [])))
  return { placed, lines }
}

/** Those that stand in a chain with any of the wanted: what they need, and what needs them. */
export function chainsAround(all: Started[], wanted: (s: Started) => boolean): Started[] {
  const byName = new Map(all.map((s) => [s.name.toLowerCase(), s]))
  const kept = new Set<Started>()
  const down = (s: Started): void => {
    if (kept.has(s)) return
    kept.add(s)
    for (const n of s.needs) {
      const before = byName.get(n.toLowerCase())
      if (before) down(before)
    }
  }
  const up = (s: Started, seen: Set<Started>): void => {
    if (seen.has(s)) return
    seen.add(s)
    kept.add(s)
    for (const other of all) if (other.needs.some((n) => n.toLowerCase() === s.name.toLowerCase())) up(other, seen)
  }
  const first = all.filter(wanted)
  for (const s of first) down(s)
  const seen = new Set<Started>()
  for (const s of first) up(s, seen)
  return all.filter((s) => kept.has(s))
}
