import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { progress, wavesOf } from './waves'

type Step = Schemas['StepNow']
const step = (index: number, system: string, needs: number[] = [], more: Partial<Step> = {}) =>
  ({
    index,
    kind: 'restart',
    subject: `unit${index}`,
    system,
    needs,
    status: 'pending',
    title: `step ${index}`,
    attempts: 0,
    ...more,
  }) as Step

describe('waves', () => {
  it('put each step behind all that it needs', () => {
    const w = wavesOf([
      step(0, ''),
      step(1, 'dir', [0]),
      step(2, 'quay1', [1]),
      step(3, 'quay2', [1]),
      step(4, 'quay1', [2]),
      step(5, 'dir', [3, 4]),
    ])
    expect(w.count).toBe(5)
    expect(w.rows.map((r) => [r.system, r.cells.map((c) => c.map((s) => s.index))])).toEqual([
      ['', [[0], [], [], [], []]],
      ['dir', [[], [1], [], [], [5]]],
      ['quay1', [[], [], [2], [4], []]],
      ['quay2', [[], [], [3], [], []]],
    ])
  })
  it('give no room to a step that only gathers others', () => {
    const w = wavesOf([step(0, 'a'), step(1, 'b'), step(2, '', [0, 1], { kind: 'all' }), step(3, 'a', [2])])
    expect(w.count).toBe(2)
    expect(w.rows.map((r) => r.system)).toEqual(['a', 'b'])
    expect(w.rows[0]!.cells[1]!.map((s) => s.index)).toEqual([3])
  })
  it('do not hang on an order that goes in a circle', () => {
    expect(wavesOf([step(0, 'a', [1]), step(1, 'a', [0])]).count).toBe(2)
  })
  it('hold a thousand systems', () => {
    const steps = [step(0, 'dir'), ...Array.from({ length: 4000 }, (_, i) => step(i + 1, `host${i % 1000}`, [i < 1000 ? 0 : i + 1 - 1000]))]
    const w = wavesOf(steps)
    expect([w.count, w.rows.length]).toEqual([5, 1001])
  })
})

describe('where a rotation is', () => {
  it('counts what is over, and finds what needs a person', () => {
    const p = progress([
      step(0, 'a', [], { status: 'done' }),
      step(1, 'a', [], { status: 'later' }),
      step(2, 'a', [], { status: 'doing' }),
      step(3, 'b', [], { status: 'waiting' }),
      step(4, 'b', [], { status: 'undo-unclear' }),
    ])
    expect([p.done, p.all, p.doing?.index, p.wrong?.index, p.waiting.map((s) => s.index)]).toEqual([2, 5, 2, 4, [3]])
  })
})
