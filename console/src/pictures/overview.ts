import type { Schemas } from '../api/client'
import type { Colours } from '../look/tokens'
import { t } from '../texts'
import { bars, type Drawing } from './drawing'

type Pictures = Schemas['Pictures']
const inOrder = (keys: string[], name: string) => keys.map((key) => ({ key, text: t(`pictures.${name}.${key}`) }))

/** Which sites are read, and which are not. */
export function coverage(p: Pictures, c: Colours): Drawing {
  const sites = [...new Set(p.coverage.map((v) => v.of))].sort()
  return bars(p.coverage, {
    colours: c,
    names: sites.map((key) => ({ key, text: key || t('pictures.noSite') })),
    parts: [
      { key: 'read', text: t('pictures.coverage.read'), colour: c.moss },
      { key: 'before', text: t('pictures.coverage.before'), colour: c.warn },
      { key: 'never', text: t('pictures.coverage.never'), colour: c.unknownBg, dotted: true },
    ],
    to: (site, part) => ({
      path: '/systems',
      query: {
        f: [
          `site=${site}`,
          ...(part === 'never' ? ['read_completely='] : part === 'read' ? ['state=ok'] : ['state!=ok', 'read_completely!=']),
        ],
      },
    }),
    say: (n) => t('n.systems', n),
  })
}

const day = 86_400_000
const stamp = (now: number, days: number) => new Date(now + days * day).toISOString().slice(0, 19) + 'Z'

/** When passwords end. */
export function ends(p: Pictures, c: Colours, now: number): Drawing {
  const keys = ['past', '7', '30', '90', 'later', 'never', 'unknown']
  const colour: Record<string, string> = {
    past: c.bad,
    '7': c.warn,
    '30': c.warn,
    '90': c.good,
    later: c.good,
    never: c.soft,
    unknown: c.unknown,
  }
  const from: Record<string, string[]> = {
    past: ['password_expires!=', `password_expires<${stamp(now, 0)}`],
    '7': [`password_expires>${stamp(now, 0)}`, `password_expires<${stamp(now, 7)}`],
    '30': [`password_expires>${stamp(now, 7)}`, `password_expires<${stamp(now, 30)}`],
    '90': [`password_expires>${stamp(now, 30)}`, `password_expires<${stamp(now, 90)}`],
    later: [`password_expires>${stamp(now, 90)}`],
    unknown: ['password_expires='],
  }
  return bars(
    p.ends.map((v) => ({ of: v.is, is: '', count: v.count })),
    {
      colours: c,
      names: inOrder(keys, 'ends'),
      parts: [{ key: '', text: t('n.accountsTitle'), colour: c.moss }],
      byName: (key) => colour[key]!,
      to: (key) => ({
        path: '/accounts',
        query: { f: ['enabled=yes', ...(key === 'never' ? ['never_expires=true'] : ['never_expires=false', ...from[key]!])] },
      }),
      say: (n) => t('n.accounts', n),
    },
  )
}

/** How old passwords are. */
export function ages(p: Pictures, c: Colours, now: number): Drawing {
  const keys = ['30', '90', '365', '1095', 'older', 'unknown']
  const colour: Record<string, string> = { '30': c.good, '90': c.good, '365': c.moss, '1095': c.warn, older: c.bad, unknown: c.unknown }
  const between = (newer: number | undefined, older: number | undefined) => [
    'password_changed!=',
    ...(newer === undefined ? [] : [`password_changed<${stamp(now, -newer)}`]),
    ...(older === undefined ? [] : [`password_changed>${stamp(now, -older)}`]),
  ]
  const of: Record<string, string[]> = {
    '30': between(undefined, 30),
    '90': between(30, 90),
    '365': between(90, 365),
    '1095': between(365, 1095),
    older: between(1095, undefined),
    unknown: ['password_changed='],
  }
  return bars(
    p.ages.map((v) => ({ of: v.is, is: '', count: v.count })),
    {
      colours: c,
      upright: true,
      names: inOrder(keys, 'ages'),
      parts: [{ key: '', text: t('n.accountsTitle'), colour: c.moss }],
      byName: (key) => colour[key]!,
      to: (key) => ({ path: '/accounts', query: { f: ['enabled=yes', ...of[key]!] } }),
      say: (n) => t('n.accounts', n),
    },
  )
}

/** What needs a person, and for how long already. */
export function findings(p: Pictures, c: Colours, now: number): Drawing {
  const sums = new Map<string, number>()
  for (const v of p.findings) sums.set(v.of, (sums.get(v.of) ?? 0) + v.count)
  const kinds = [...sums].sort((a, b) => b[1] - a[1]).slice(0, 10)
  const days: Record<string, [number | undefined, number | undefined]> = {
    '1': [undefined, 1],
    '7': [1, 7],
    '30': [7, 30],
    older: [30, undefined],
  }
  return bars(p.findings, {
    colours: c,
    names: kinds.map(([key]) => ({ key, text: key.replaceAll('-', ' ') })),
    parts: [
      { key: '1', text: t('pictures.findings.1'), colour: c.unknown },
      { key: '7', text: t('pictures.findings.7'), colour: c.moss },
      { key: '30', text: t('pictures.findings.30'), colour: c.warn },
      { key: 'older', text: t('pictures.findings.older'), colour: c.bad },
    ],
    to: (kind, part) => {
      const [newer, older] = days[part]!
      return {
        path: '/findings',
        query: {
          f: [`kind=${kind}`, ...(newer ? [`raised<${stamp(now, -newer)}`] : []), ...(older ? [`raised>${stamp(now, -older)}`] : [])],
        },
      }
    },
    say: (n) => t('n.findings', n),
  })
}

/** What came of rotations, day by day. */
export function rotations(p: Pictures, c: Colours, now: number): Drawing {
  const days = Array.from({ length: 30 }, (_, i) => new Date(now - (29 - i) * day).toISOString().slice(0, 10))
  const known: Record<string, string> = {
    done: c.good,
    'done-with-failures': c.warn,
    undone: c.warn,
    'undo-incomplete': c.bad,
    running: c.unknown,
    stopped: c.warn,
    undoing: c.warn,
  }
  const results = [...new Set(p.rotations.map((v) => v.is))].sort((a, b) => Object.keys(known).indexOf(a) - Object.keys(known).indexOf(b))
  return bars(p.rotations, {
    colours: c,
    upright: true,
    names: days.map((key) => ({ key, text: key.slice(5) })),
    parts: results.map((key) => ({ key, text: key.replaceAll('-', ' '), colour: known[key] ?? c.soft })),
    to: (on, result) => ({
      path: '/rotations',
      query: {
        f: [
          `started>${on}`,
          `started<${new Date(Date.parse(on) + day).toISOString().slice(0, 10)}`,
          `${['running', 'stopped', 'undoing'].includes(result) ? 'mode' : 'result'}=${result}`,
        ],
      },
    }),
    say: (n) => t('n.rotations', n),
  })
}
