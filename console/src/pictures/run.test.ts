import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { colours, hues } from '../look/tokens'
import { interruptions, spans, stages, timeline } from './run'

type Step = Schemas['StepNow']
type Line = Schemas['JournalRecord']
const at = (ms: number) => new Date(Date.UTC(2026, 10, 28, 2, 0, 0) + ms).toISOString()
const step = (index: number, kind: string, subject: string) =>
  ({ index, kind, subject, system: 'quay1', title: `${kind} ${subject}`, status: 'done', attempts: 1 }) as Step
let seq = 0
const line = (ms: number, event: string, of: number, more: Partial<Line> = {}) =>
  ({ seq: seq++, time: at(ms), event, step: of, title: '', ...more }) as Line
const steps = [
  step(0, 'stop', 'berth.service'),
  step(1, 'replace', '/etc/berth.env'),
  step(2, 'restart', 'berth.service'),
  step(3, 'restart', 'gangway.service'),
]

describe('what a journal says of time', () => {
  it('counts a unit that was stopped first from its stop to the end of its start', () => {
    const all = spans(
      steps,
      [
        line(0, 'intent', 0),
        line(200, 'outcome', 0),
        line(200, 'intent', 1),
        line(900, 'outcome', 1),
        line(900, 'intent', 2),
        line(1500, 'outcome', 2),
        line(1500, 'intent', 3),
        line(1750, 'outcome', 3),
      ],
      Date.parse(at(9000)),
    )
    expect(interruptions(all).map((i) => [i.text, i.ms])).toEqual([
      ['berth.service stood still for 1.5 s', 1500],
      ['gangway.service stood still for 250 ms', 250],
    ])
    expect(all.filter((s) => s.kind === 'act')).toHaveLength(4)
  })
  it('has no end for what goes on, and none of it twice', () => {
    const now = Date.parse(at(4000))
    const all = spans(steps, [line(0, 'intent', 3)], now)
    expect(all).toHaveLength(1)
    expect(all[0]).toMatchObject({ from: Date.parse(at(0)), to: now, kind: 'act' })
    expect(all[0]!.text).toContain('goes on')
  })
  it('tells undoing, and what failed, from what was done', () => {
    const all = spans(
      steps,
      [
        line(0, 'intent', 1),
        line(5, 'outcome', 1, { result: 'failed' }),
        line(10, 'intent', 1, { undo: true }),
        line(20, 'outcome', 1, { undo: true, result: 'done' }),
      ],
      Date.parse(at(30)),
    )
    expect(all.map((s) => s.kind)).toEqual(['failed', 'undo'])
  })
  it('a restart that failed is no interruption that has ended', () => {
    const all = spans(steps, [line(0, 'intent', 3), line(50, 'outcome', 3, { result: 'failed' })], Date.parse(at(60)))
    expect(interruptions(all)).toEqual([])
  })
  it('every mark of the drawing says what and where', () => {
    const d = timeline(steps, [line(0, 'intent', 1), line(900, 'outcome', 1)], colours.light, Date.parse(at(1000)))
    expect(d.marks).toEqual([{ series: 0, index: 0, name: 'replace /etc/berth.env: 900 ms', part: 'quay1', value: '900 ms' }])
  })
})

describe('a survey by stage', () => {
  it('shows the slowest first, each stage in the order of a visit that went through', () => {
    const visit = (system: string, took: number[]) =>
      ({
        system,
        stages: ['resolve', 'connect', 'read'].slice(0, took.length).map((stage, i) => ({ stage, ok: i < 2, took: took[i]! * 1e6 })),
      }) as unknown as Schemas['Visit']
    const d = stages([visit('dead', [3]), visit('quick', [1, 2, 5]), visit('slow', [1, 2, 500])], colours.light, hues.light)
    expect((d.option.yAxis as { data: string[] }).data).toEqual(['slow', 'quick', 'dead'])
    expect((d.option.series as { name: string }[]).map((s) => s.name)).toEqual(['resolve', 'connect', 'read'])
    expect(d.marks.find((m) => m.name === 'slow' && m.part.startsWith('read'))).toMatchObject({
      value: '500 ms',
      part: 'read: failed',
      to: '/systems/slow',
    })
  })
})
