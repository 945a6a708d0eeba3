import type { Schemas } from '../api/client'
import { local, never } from '../components/words'
import type { Colours } from '../look/tokens'
import { t } from '../texts'
import { axis, base, type Drawing, type Mark } from './drawing'

interface Point {
  at: string
  kind: string
  text: string
  to?: string
  bad?: boolean
}

/** The life of an account as a line: when it was changed, rotated, proven, used, and when something was found. */
export function life(
  account: Schemas['Account'],
  password: Schemas['Credential'] | undefined,
  rotations: Schemas['Rotation'][],
  findings: Schemas['Finding'][],
  uses: Schemas['SeenUse'][],
  c: Colours,
  now: number,
): Drawing {
  const points: Point[] = []
  const add = (kind: string, at: string | undefined, text: string, to?: string, bad?: boolean): void => {
    if (!never(at)) points.push({ kind, at: at!, text, to, bad })
  }
  add('changed', account.password_changed, t('life.changed'))
  add(
    'ends',
    account.never_expires ? undefined : account.password_expires,
    t('life.ends'),
    undefined,
    Date.parse(account.password_expires ?? '') < now,
  )
  add('ends', account.account_expires, t('life.accountEnds'))
  for (const r of rotations)
    add(
      'rotated',
      never(r.ended) ? r.started : r.ended,
      t('life.rotated', { n: r.id, result: r.result || r.mode }),
      `/rotations/${r.id}`,
      r.result !== 'done',
    )
  add('verified', password?.taken, t('life.taken', { name: password?.taken_by }))
  add('verified', password?.verified, t('life.verified', { verdict: password?.verdict }), undefined, password?.verdict === 'refused')
  add('used', account.last_logon, t('life.logOn'))
  for (const u of uses) {
    add('used', u.first, t('life.usedFirst', { what: u.unit || u.program || u.client || u.system }))
    add('used', u.last, t('life.usedLast', { what: u.unit || u.program || u.client || u.system }), undefined, u.failed)
  }
  for (const f of findings) add('found', f.first_raised, f.what, undefined, f.severity === 'high')
  add('seen', account.first_seen, t('life.firstSeen'))
  add('seen', account.seen, t('life.seen'))

  const kinds = ['changed', 'ends', 'rotated', 'verified', 'used', 'found', 'seen'].filter((k) => points.some((p) => p.kind === k))
  points.sort((a, b) => Date.parse(a.at) - Date.parse(b.at))
  const colour: Record<string, string> = {
    changed: c.moss,
    ends: c.warn,
    rotated: c.good,
    verified: c.good,
    used: c.unknown,
    found: c.warn,
    seen: c.soft,
  }
  const marks: Mark[] = points.map((p, index) => ({
    series: 0,
    index,
    name: p.text,
    part: t(`life.kind.${p.kind}`),
    value: local(p.at),
    to: p.to,
  }))
  return {
    marks,
    height: kinds.length * 30 + 50,
    option: {
      ...base(c),
      tooltip: {
        ...(base(c).tooltip as object),
        formatter: (v: { dataIndex: number }) => plain(`${points[v.dataIndex]!.text}`) + '<br>' + local(points[v.dataIndex]!.at),
      },
      grid: { left: 8, right: 24, top: 8, bottom: 4, containLabel: true },
      xAxis: { type: 'time', ...axis(c) },
      yAxis: {
        type: 'category',
        inverse: true,
        data: kinds.map((k) => t(`life.kind.${k}`)),
        ...axis(c),
        splitLine: { show: true, lineStyle: { color: c.line } },
      },
      series: [
        {
          type: 'scatter',
          symbolSize: 12,
          emphasis: { scale: 1.4 },
          data: points.map((p) => ({
            value: [p.at, kinds.indexOf(p.kind)],
            symbol: p.bad ? 'diamond' : p.kind === 'seen' ? 'emptyCircle' : 'circle',
            itemStyle: { color: p.bad ? c.bad : colour[p.kind], borderColor: c.panel },
          })),
        },
      ],
    },
  }
}

/** Text for the words beside a mark, which the library takes for HTML. */
export function plain(text: string): string {
  return text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('>', '&gt;').replaceAll('"', '&quot;')
}
