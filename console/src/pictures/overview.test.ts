import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { colours } from '../look/tokens'
import { ages, coverage, ends, findings, rotations } from './overview'

const now = Date.UTC(2026, 10, 28, 12)
const of = (more: Partial<Schemas['Pictures']>): Schemas['Pictures'] => ({
  coverage: [],
  ends: [],
  ages: [],
  findings: [],
  rotations: [],
  ...more,
})
const c = colours.light
const filters = (to: unknown) => (to as { query: { f: string[] } }).query.f

describe('pictures of the first page', () => {
  it('have a mark for each part that there is, and none for what is not', () => {
    const d = coverage(
      of({
        coverage: [
          { of: 'north', is: 'read', count: 3 },
          { of: 'north', is: 'never', count: 1 },
          { of: '', is: 'before', count: 2 },
        ],
      }),
      c,
    )
    expect(d.marks.map((m) => [m.name, m.part, m.value])).toEqual([
      ['no site', 'read earlier, not now', '2 systems'],
      ['north', 'read completely', '3 systems'],
      ['north', 'never read', '1 system'],
    ])
    expect(filters(d.marks[2]!.to)).toEqual(['site=north', 'read_completely='])
  })
  it('lead to lists that have what was counted: the ends of a part are the beginnings of the next', () => {
    const keys = ['past', '7', '30', '90', 'later']
    const d = ends(of({ ends: keys.map((is, i) => ({ of: '', is, count: i + 1 })) }), c, now)
    const bounds = d.marks.map((m) => filters(m.to).filter((f) => /^password_expires[<>]/.test(f)))
    for (let i = 1; i < keys.length; i++) {
      const before = bounds[i - 1]!.find((f) => f.includes('<'))!.split('<')[1]
      const begins = bounds[i]!.find((f) => f.includes('>'))!.split('>')[1]
      expect(begins, keys[i]).toBe(before)
    }
    expect(d.marks.map((m) => m.value)).toEqual(['1 account', '2 accounts', '3 accounts', '4 accounts', '5 accounts'])
    for (const m of d.marks) expect(filters(m.to)).toContain('enabled=yes')
  })
  it('tell never from not known', () => {
    const d = ends(
      of({
        ends: [
          { of: '', is: 'never', count: 4 },
          { of: '', is: 'unknown', count: 5 },
        ],
      }),
      c,
      now,
    )
    expect(d.marks.map((m) => [m.name, ...filters(m.to)])).toEqual([
      ['never', 'enabled=yes', 'never_expires=true'],
      ['not known', 'enabled=yes', 'never_expires=false', 'password_expires='],
    ])
  })
  it('count ages from now back', () => {
    const d = ages(
      of({
        ages: [
          { of: '', is: '30', count: 1 },
          { of: '', is: 'older', count: 1 },
        ],
      }),
      c,
      now,
    )
    expect(filters(d.marks[0]!.to)).toContain('password_changed>2026-10-29T12:00:00Z')
    expect(filters(d.marks[1]!.to)).toContain('password_changed<2023-11-29T12:00:00Z')
  })
  it('show the ten kinds that need most, the most first', () => {
    const many = Array.from({ length: 14 }, (_, i) => ({ of: `kind-${i}`, is: '1', count: i + 1 }))
    const d = findings(of({ findings: many }), c, now)
    expect((d.option.yAxis as { data: string[] }).data).toHaveLength(10)
    expect(d.marks[0]).toMatchObject({ name: 'kind 13', value: '14 findings' })
  })
  it('have a day for each of the last thirty, also without a rotation', () => {
    const d = rotations(
      of({
        rotations: [
          { of: '2026-11-27', is: 'undone', count: 2 },
          { of: '2026-11-27', is: 'done', count: 1 },
        ],
      }),
      c,
      now,
    )
    expect((d.option.xAxis as { data: string[] }).data).toHaveLength(30)
    expect(d.marks.map((m) => [m.name, m.part])).toEqual([
      ['11-27', 'done'],
      ['11-27', 'undone'],
    ])
    expect(filters(d.marks[0]!.to)).toEqual(['started>2026-11-27', 'started<2026-11-28', 'result=done'])
  })
})
