import { describe, expect, it } from 'vitest'
import { lay, short, summary } from './picture'

const nodes = [
  { id: 'a1', kind: 'account', name: 'svc-x', system: 'dir', hop: 0 },
  { id: 'd1', kind: 'dependent', of: 'file', name: '/etc/x.env#P', system: 'quay1', hop: 1 },
  { id: 'd2', kind: 'dependent', of: 'unit', name: 'x.service', system: 'quay1', hop: 2, down: true },
  { id: 'd3', kind: 'dependent', of: 'unit', name: 'y.service', system: 'tide1', hop: 1 },
]
const edges = [
  { from: 'a1', to: 'd1', why: 'held' },
  { from: 'd1', to: 'd2', why: 'reads' },
  { from: 'a1', to: 'd3', why: 'observed' },
]

describe('the picture', () => {
  it('puts things in columns by distance and rows by system', () => {
    const { drawn, lines } = lay(nodes, edges, () => true)
    expect(drawn.map((d) => d.id)).toEqual(['a1', 'd1', 'd2', 'd3'])
    const at = Object.fromEntries(drawn.map((d) => [d.id, d]))
    expect(at.d2!.x).toBeGreaterThan(at.d1!.x)
    expect(at.d3!.y).toBeGreaterThan(at.d1!.y)
    expect(lines).toHaveLength(3)
  })
  it('stands on both sides of the account when it is high, and nothing lies on anything', () => {
    const many = Array.from({ length: 50 }, (_, i) => ({ ...nodes[1]!, id: `m${i}`, system: `quay${String(i).padStart(2, '0')}` }))
    for (const open of [() => false, () => true, (s: string) => s.endsWith('3')]) {
      const { drawn, height } = lay([nodes[0]!, ...many, { ...nodes[2]!, id: 'deep', system: 'quay07' }], [], open)
      const sides = [drawn.filter((d) => d.x < 0), drawn.filter((d) => d.x > 0)]
      expect(Math.abs(sides[0]!.length - sides[1]!.length)).toBeLessThan(6)
      for (const a of drawn)
        for (const b of drawn) if (a !== b && Math.abs(a.x - b.x) < 240) expect(Math.abs(a.y - b.y), `${a.id} ${b.id}`).toBeGreaterThan(28)
      expect(Math.max(...drawn.map((d) => d.y))).toBeLessThanOrEqual(height)
    }
    expect(
      lay(nodes, edges, () => true).drawn.every((d) => d.x >= 0),
      'a low one stands on one side',
    ).toBe(true)
  })
  it('draws a closed system as one thing', () => {
    const { drawn, lines } = lay(nodes, edges, (s) => s !== 'quay1')
    const quay = drawn.find((d) => d.id === 's:quay1')!
    expect(quay.down).toBe(true)
    expect(quay.label).toBe('quay1\n1 file, 1 unit')
    expect(lines.map((l) => `${l.from}>${l.to}`)).toEqual(['a1>s:quay1', 'a1>d3'])
  })
  it('tells places apart that end alike, and marks what holds another value', () => {
    const twice = [
      nodes[0]!,
      { ...nodes[1]!, id: 'd8', name: '/srv/one/config/database.yml#/p' },
      { ...nodes[1]!, id: 'd9', name: '/srv/two/config/database.yml#/p' },
    ]
    const { drawn } = lay(twice, [{ from: 'a1', to: 'd9', why: 'held', strength: 'differs' }], () => true)
    expect(drawn.map((d) => d.label)).toEqual(['svc-x', '/srv/one/config/database.yml', '/srv/two/config/database.yml'])
    expect(drawn.map((d) => d.stale)).toEqual([false, false, true])
  })
  it('shortens long places and counts kinds', () => {
    expect(short('/etc/berth/berth.env#BERTH_PASSWORD')).toBe('berth.env #BERTH_PASSWORD')
    expect(short('/a/' + 'x'.repeat(60)).length).toBe(34)
    expect(summary(nodes.slice(1))).toBe('2 units, 1 file')
  })
})
