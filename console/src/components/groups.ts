import type { Schemas } from '../api/client'
import { t } from '../texts'

/** What a list of dependents can be put in groups by; texts dependents.by.<name>. */
export const groupings = ['system', 'account', 'runs_as', 'kind', 'state']

type Dependent = Schemas['Dependent']

function names(d: Dependent, by: string): string[] {
  if (by === 'account') {
    const all = [...new Set(d.ties.map((t) => `${t.account} (${t.system})`))]
    if (!all.length && d.identity && d.identity !== 'named') return [t('dependents.machine')]
    return all.length ? all : [t('dependents.noAccount')]
  }
  const value = (d as unknown as Record<string, unknown>)[by]
  return [value ? String(value) : t('words.none')]
}

/** Rows under the names of their groups, in order. One tied to two accounts stands in both groups. */
export function grouped(rows: Dependent[], by: string): { name: string; rows: Dependent[] }[] {
  const groups = new Map<string, Dependent[]>()
  for (const d of rows) {
    for (const name of names(d, by)) groups.set(name, [...(groups.get(name) ?? []), d])
  }
  return [...groups.entries()].sort(([a], [b]) => a.localeCompare(b)).map(([name, list]) => ({ name, rows: list }))
}
