import type { Schemas } from '../api/client'
import { lasting } from '../components/words'
import type { Colours } from '../look/tokens'
import { t } from '../texts'
import { axis, base, type Drawing, type Mark } from './drawing'
import { plain } from './life'

type Step = Schemas['StepNow']
type Record_ = Schemas['JournalRecord']

/** A span of time in which something was done, or a unit stood still. */
export interface Span {
  row: string
  from: number
  to: number
  text: string
  kind: 'act' | 'undo' | 'failed' | 'still'
}

const stopping = ['stop', 'restart', 'revive']

/**
 * What a journal says of time: each act from its intent to its outcome, and
 * for each unit how long it stood still: from the act that takes it down to the
 * end of that act, which is when it runs again.
 */
export function spans(steps: Step[], journal: Record_[], now: number): Span[] {
  const begun = new Map<string, number>()
  const down = new Map<string, number>()
  const out: Span[] = []
  const name = (s: Step) => s.system || t('run.here')
  const close = (s: Step, undo: boolean, from: number, to: number, failed: boolean, open = false): void => {
    out.push({
      row: name(s),
      from,
      to,
      text: `${s.title}: ${lasting(to - from)}${open ? ', ' + t('run.goesOn') : ''}`,
      kind: failed ? 'failed' : undo ? 'undo' : 'act',
    })
    // What goes on has not ended: how long it stands still is not known yet.
    if (open) return
    const unit = `${s.system} ${s.subject}`
    if (s.kind === 'stop' && !undo) down.set(unit, from)
    else if (stopping.includes(s.kind) && !failed) {
      const since = down.get(unit) ?? from
      down.delete(unit)
      out.push({ row: name(s), from: since, to, text: t('run.stood', { unit: s.subject, time: lasting(to - since) }), kind: 'still' })
    }
  }
  for (const r of journal) {
    const step = steps[r.step]
    if (!step) continue
    const key = `${r.step} ${r.undo}`
    const time = Date.parse(r.time)
    if (r.event === 'intent') begun.set(key, time)
    else if (r.event === 'outcome' || r.event === 'probed') {
      const from = begun.get(key)
      if (from === undefined) continue
      begun.delete(key)
      close(step, !!r.undo, from, time, r.result === 'failed' || r.result === 'unclear')
    }
  }
  for (const [key, from] of begun) {
    const [index, undo] = key.split(' ')
    const step = steps[Number(index)]
    if (step) close(step, undo === 'true', from, Math.max(now, from), false, true)
  }
  return out
}

/** How long each unit stood still in all, the longest first. */
export function interruptions(all: Span[]): { text: string; ms: number }[] {
  return all
    .filter((s) => s.kind === 'still')
    .map((s) => ({ text: s.text, ms: s.to - s.from }))
    .sort((a, b) => b.ms - a.ms)
}

/** A rotation over systems and time. */
export function timeline(steps: Step[], journal: Record_[], c: Colours, now: number): Drawing {
  const all = spans(steps, journal, now)
  const rows = [...new Set(all.map((s) => s.row))]
  const colour = { act: c.moss, undo: c.warn, failed: c.bad, still: c.unknown }
  const sorted = [...all].sort((a, b) => a.from - b.from)
  const marks: Mark[] = sorted.map((s, index) => ({ series: 0, index, name: s.text, part: s.row, value: lasting(s.to - s.from) }))
  const first = sorted[0]?.from ?? now
  return {
    marks,
    height: rows.length * 34 + 46,
    option: {
      ...base(c),
      tooltip: { ...(base(c).tooltip as object), formatter: (v: { dataIndex: number }) => plain(sorted[v.dataIndex]!.text) },
      grid: { left: 8, right: 20, top: 8, bottom: 4, containLabel: true },
      xAxis: { type: 'value', ...axis(c), axisLabel: { color: c.soft, formatter: (ms: number) => lasting(ms) } },
      yAxis: { type: 'category', inverse: true, data: rows, ...axis(c), splitLine: { show: true, lineStyle: { color: c.line } } },
      series: [
        {
          type: 'custom',
          encode: { x: [0, 1], y: 2 },
          data: sorted.map((s) => [s.from - first, s.to - first, rows.indexOf(s.row), s.kind]),
          renderItem: (
            _: unknown,
            api: { value: (i: number) => number; coord: (p: number[]) => number[]; size: (p: number[]) => number[] },
          ) => {
            const [x1 = 0, y = 0] = api.coord([api.value(0), api.value(2)])
            const [x2 = 0] = api.coord([api.value(1), api.value(2)])
            const kind = String(api.value(3)) as Span['kind']
            const still = kind === 'still'
            const high = still ? 6 : 12
            return {
              type: 'rect',
              shape: { x: x1, y: y + (still ? 6 : -8), width: Math.max(3, x2 - x1), height: high },
              style: { fill: colour[kind], stroke: c.panel, lineWidth: 1 },
              emphasis: { style: { stroke: c.ink, lineWidth: 2 } },
            }
          },
        },
      ],
    },
  }
}

/** A survey as bars: how long each stage of each visit took, the slowest first. */
export function stages(visits: Schemas['Visit'][], c: Colours, colours: string[]): Drawing {
  const names: string[] = []
  // In the order in which a visit that went through has them.
  for (const v of [...visits].sort((a, b) => b.stages.length - a.stages.length))
    for (const s of v.stages) if (!names.includes(s.stage)) names.push(s.stage)
  const sum = (v: Schemas['Visit']) => v.stages.reduce((n, s) => n + s.took / 1e6, 0)
  const slow = [...visits]
    .filter((v) => v.stages.length)
    .sort((a, b) => sum(b) - sum(a))
    .slice(0, 25)
  const marks: Mark[] = slow.flatMap((v, index) =>
    names.flatMap((stage, series) => {
      const s = v.stages.find((x) => x.stage === stage)
      return s
        ? [
            {
              series,
              index,
              name: v.system,
              part: stage + (s.ok ? '' : ': ' + t('run.failed')),
              value: lasting(s.took / 1e6),
              to: `/systems/${encodeURIComponent(v.system)}`,
            },
          ]
        : []
    }),
  )
  return {
    marks,
    height: slow.length * 26 + 66,
    option: {
      ...base(c),
      tooltip: {
        ...(base(c).tooltip as object),
        formatter: (v: { seriesName: string; name: string; value: number }) => plain(`${v.name}, ${v.seriesName}: ${lasting(v.value)}`),
      },
      legend: { top: 0, left: 0, itemWidth: 12, itemHeight: 12, textStyle: { color: c.soft }, selectedMode: false },
      grid: { left: 8, right: 16, top: 34, bottom: 4, containLabel: true },
      xAxis: { type: 'value', ...axis(c), axisLabel: { color: c.soft, formatter: (ms: number) => lasting(ms) } },
      yAxis: { type: 'category', inverse: true, data: slow.map((v) => v.system), ...axis(c), splitLine: { show: false } },
      series: names.map((stage, i) => ({
        name: stage,
        type: 'bar',
        stack: 'all',
        barMaxWidth: 16,
        itemStyle: { color: colours[i % colours.length], borderColor: c.panel, borderWidth: 1 },
        data: slow.map((v) => (v.stages.find((s) => s.stage === stage)?.took ?? 0) / 1e6),
      })),
    },
  }
}
