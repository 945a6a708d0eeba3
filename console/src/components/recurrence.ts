/** Days of the week as recurrence rules have them (RFC 5545). */
export const days = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'] as const
export type Day = (typeof days)[number]

/** The days that a plain rule names: none of them is every day; undefined where it says more. */
export function daysOf(rule: string): Day[] | undefined {
  if (rule === 'FREQ=DAILY') return []
  const named = /^FREQ=WEEKLY;BYDAY=((?:MO|TU|WE|TH|FR|SA|SU)(?:,(?:MO|TU|WE|TH|FR|SA|SU))*)$/.exec(rule)
  return named ? (named[1]!.split(',') as Day[]) : undefined
}

export function daysRule(on: Day[]): string {
  return on.length && on.length < 7 ? `FREQ=WEEKLY;BYDAY=${days.filter((d) => on.includes(d)).join(',')}` : 'FREQ=DAILY'
}
