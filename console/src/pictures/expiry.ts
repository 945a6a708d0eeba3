import type { Schemas } from '../api/client'
import type { Colours } from '../look/tokens'
import { t } from '../texts'
import { bars, type Drawing } from './drawing'

type Part = Schemas['EndsPart']
type Day = Schemas['EndsDay']
export const whats = ['password', 'account', 'role', 'token', 'key', 'certificate', 'membership', 'right'] as const
const partKeys = ['past', '7', '30', '90', 'later', 'never', 'unknown'] as const
const day = 86_400_000
const stamp = (now: number, days: number) => new Date(now + days * day).toISOString().slice(0, 19) + 'Z'

/** A colour for each kind of what ends. */
function colours(c: Colours): Record<string, string> {
  return {
    password: c.moss,
    account: c.warn,
    role: c.bad,
    token: c.good,
    key: c.unknown,
    certificate: c.soft,
    membership: c.ink,
    right: c.line,
  }
}
const parts = (c: Colours) => whats.map((key) => ({ key, text: t(`ends.what.${key}`), colour: colours(c)[key]! }))

/** The filters by which the list shows one part of the timeline. */
export function within(part: string, now: number): string[] {
  const between: Record<string, string[]> = {
    past: [`at<${stamp(now, 0)}`, 'state!=never', 'state!=unknown'],
    '7': ['state=ends', `at>${stamp(now, 0)}`, `at<${stamp(now, 7)}`],
    '30': ['state=ends', `at>${stamp(now, 7)}`, `at<${stamp(now, 30)}`],
    '90': ['state=ends', `at>${stamp(now, 30)}`, `at<${stamp(now, 90)}`],
    later: ['state=ends', `at>${stamp(now, 90)}`],
    never: ['state=never'],
    unknown: ['state=unknown'],
  }
  return between[part]!
}

/** How much ends in which part of time, of accounts that are enabled. */
export function timeline(list: Part[], c: Colours, now: number): Drawing {
  return bars(
    list.filter((p) => p.live).map((p) => ({ of: p.part, is: p.what, count: p.count })),
    {
      colours: c,
      names: partKeys.map((key) => ({ key, text: t(`ends.part.${key}`) })),
      parts: parts(c),
      to: (part, what) => ({ path: '/expiry', query: { f: ['live=yes', `what=${what}`, ...within(part, now)] } }),
      say: (n) => t('ends.count', n),
    },
  )
}

/** How much ends on which day to come. */
export function forecast(days: Day[], c: Colours, now: number, span: number): Drawing {
  const names = Array.from({ length: span }, (_, i) => new Date(now + i * day).toISOString().slice(0, 10))
  return bars(
    days.filter((d) => d.live).map((d) => ({ of: d.day, is: d.what, count: d.count })),
    {
      colours: c,
      upright: true,
      names: names.map((key) => ({ key, text: key.slice(5) })),
      parts: parts(c),
      to: (of, what) => ({
        path: '/expiry',
        query: {
          f: [
            'live=yes',
            `what=${what}`,
            'state=ends',
            `at>${of}T00:00:00Z`,
            `at<${new Date(Date.parse(of) + day).toISOString().slice(0, 10)}T00:00:00Z`,
          ],
        },
      }),
      say: (n) => t('ends.count', n),
    },
  )
}
