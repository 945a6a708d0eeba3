import type { Schemas } from '../api/client'

type Answer = Schemas['RehearsalAnswer']
export type Checked = Schemas['Checked']

/** Notes that say what nobody knows or can change; they stand first, and are never folded. */
const unknown = ['doubtful', 'unexplained', 'out-of-reach', 'ambiguous', 'by-hand', 'irreplaceable', 'acceptor', 'latent', 'exposed']

export interface Decision {
  unknown: { kind: string; text: string }[]
  notes: { kind: string; text: string }[]
  unchecked: Checked[]
  wrong: Checked[]
  fine: Checked[]
  places: number
  restarts: string[]
  systems: number
}

/** A rehearsal in the order in which a careful person asks. */
export function decisionOf(answer: Answer): Decision {
  const steps = answer.rehearsal.plan.steps ?? []
  const notes = answer.rehearsal.plan.notes ?? []
  const checks = answer.rehearsal.checks
  const restarts = new Set<string>()
  for (const s of steps) {
    if ((s.kind === 'restart' && !s.reload) || s.kind === 'stop') restarts.add(`${s.subject} on ${s.system}`)
    for (const along of s.along ?? []) restarts.add(`${along.place} on ${s.system}`)
  }
  return {
    unknown: notes.filter((n) => unknown.includes(n.kind)),
    notes: notes.filter((n) => !unknown.includes(n.kind)),
    unchecked: checks.filter((c) => c.result === 'unchecked'),
    wrong: checks
      .filter((c) => c.result === 'failed' || c.result === 'warning')
      .sort((a, b) => (a.result === b.result ? 0 : a.result === 'failed' ? -1 : 1)),
    fine: checks.filter((c) => !['failed', 'warning', 'unchecked'].includes(c.result)),
    places: steps.filter((s) => ['change', 'replace', 'log-on'].includes(s.kind)).length,
    restarts: [...restarts],
    systems: new Set(steps.map((s) => s.system).filter(Boolean)).size,
  }
}

/** What is otherwise than at the rehearsal before. */
export function comparison(before: Answer | undefined, now: Answer): { more: string[]; less: string[]; since?: string } {
  if (!before || before.rehearsal.id === now.rehearsal.id) return { more: [], less: [] }
  const lines = (a: Answer) =>
    new Set([
      ...a.steps,
      ...(a.rehearsal.plan.notes ?? []).map((n) => n.text),
      ...a.rehearsal.checks.filter((c) => c.result !== 'ok').map((c) => `${c.system}: ${c.what}: ${c.result}`),
    ])
  const was = lines(before)
  const is = lines(now)
  return { more: [...is].filter((l) => !was.has(l)), less: [...was].filter((l) => !is.has(l)), since: before.rehearsal.created }
}
