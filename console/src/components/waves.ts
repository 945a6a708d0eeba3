import type { Schemas } from '../api/client'

type Step = Schemas['StepNow']

export interface WaveRow {
  system: string
  cells: Step[][]
}

/** Steps in waves: each stands after all that it needs. Rows are systems, in the order in which they are come to. */
export function wavesOf(steps: Step[]): { count: number; rows: WaveRow[] } {
  const wave: number[] = []
  for (const s of steps) {
    const before = [...(s.needs ?? []), ...(s.after ?? [])].filter((i) => i < s.index).map((i) => wave[i] ?? 0)
    // A step that only gathers others takes no room of its own.
    wave[s.index] = s.kind === 'all' ? Math.max(0, ...before) : before.length ? Math.max(...before) + 1 : 0
  }
  const shown = steps.filter((s) => s.kind !== 'all')
  // Waves in which nothing is shown are closed up.
  const used = [...new Set(shown.map((s) => wave[s.index] ?? 0))].sort((a, b) => a - b)
  const column = new Map(used.map((w, i) => [w, i]))
  const rows = new Map<string, WaveRow>()
  for (const s of shown) {
    const name = s.system || ''
    let row = rows.get(name)
    if (!row) {
      row = { system: name, cells: used.map(() => []) }
      rows.set(name, row)
    }
    row.cells[column.get(wave[s.index] ?? 0)!]!.push(s)
  }
  return { count: used.length, rows: [...rows.values()] }
}

const over = ['done', 'later', 'skipped', 'undone']
const wrong = ['failed', 'unclear', 'undo-failed', 'undo-unclear']

/** One plain sentence's facts about where a rotation is. */
export function progress(steps: Step[]): { done: number; all: number; doing?: Step; wrong?: Step; waiting: Step[] } {
  return {
    done: steps.filter((s) => s.status === 'done' || s.status === 'later').length,
    all: steps.length,
    doing: steps.find((s) => s.status === 'doing' || s.status === 'undoing'),
    wrong: steps.find((s) => wrong.includes(s.status)),
    waiting: steps.filter((s) => s.status === 'waiting'),
  }
}

export const isOver = (s: Step): boolean => over.includes(s.status)
export const isWrong = (s: Step): boolean => wrong.includes(s.status)
