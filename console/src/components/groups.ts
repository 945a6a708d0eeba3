import type { Schemas } from '../api/client'

export const groupings = [
  { value: 'system', text: 'system' },
  { value: 'account', text: 'account' },
  { value: 'runs_as', text: 'log-on as written' },
  { value: 'kind', text: 'kind' },
  { value: 'state', text: 'state' },
]

type Dependent = Schemas['Dependent']

function names(d: Dependent, by: string): string[] {
  if (by === 'account') {
    const all = [...new Set(d.ties.map((t) => `${t.account} (${t.system})`))]
    if (!all.length && d.identity && d.identity !== 'named') return ['the machine itself (no password to change)']
    return all.length ? all : ['no known account']
  }
  const value = (d as unknown as Record<string, unknown>)[by]
  return [value ? String(value) : 'none']
}

/** Rows under the names of their groups, in order. One tied to two accounts stands in both groups. */
export function grouped(rows: Dependent[], by: string): { name: string; rows: Dependent[] }[] {
  const groups = new Map<string, Dependent[]>()
  for (const d of rows) {
    for (const name of names(d, by)) groups.set(name, [...(groups.get(name) ?? []), d])
  }
  return [...groups.entries()].sort(([a], [b]) => a.localeCompare(b)).map(([name, list]) => ({ name, rows: list }))
}
