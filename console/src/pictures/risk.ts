import type { Schemas } from '../api/client'
import type { Colours } from '../look/tokens'
import { t } from '../texts'
import { axis, base, type Drawing } from './drawing'

type Risk = Schemas['Risk']

/** How many marks have their name beside them: the worst, so that these stand out. */
const named = 8

/** Accounts by how weakly they are held (across) and what they could do (up); the worst are at the top right, large and named. */
export function risks(list: Risk[], c: Colours): Drawing {
  const colour = (r: Risk) => (r.score >= 30 ? c.bad : r.score >= 10 ? c.warn : c.good)
  const side = (title: string) => ({
    type: 'value',
    min: 0,
    max: 105,
    interval: 25,
    name: title,
    nameLocation: 'middle',
    nameGap: 30,
    nameTextStyle: { color: c.soft },
    ...axis(c),
    axisLabel: { color: c.soft, fontSize: 12, formatter: (n: number) => (n > 100 ? '' : String(n)) },
  })
  return {
    height: 340,
    option: {
      ...base(c),
      grid: { left: 56, right: 40, top: 16, bottom: 48 },
      xAxis: side(t('risks.weakness')),
      yAxis: side(t('risks.power')),
      series: [
        {
          type: 'scatter',
          symbolSize: (value: number[]) => 8 + Math.sqrt(value[2] ?? 0) * 2.2,
          labelLayout: { hideOverlap: true },
          data: list.map((r, i) => ({
            name: r.account,
            value: [r.weakness, r.power, r.score],
            itemStyle: { color: colour(r), opacity: 0.85, borderColor: c.panel, borderWidth: 1 },
            label: { show: i < named && r.score > 0, formatter: '{b}', position: 'top', color: c.ink, fontSize: 12 },
            tooltip: { formatter: () => t('risks.mark', { account: r.account, system: r.system, score: r.score }) },
          })),
          emphasis: { itemStyle: { borderColor: c.ink, borderWidth: 2 } },
        },
      ],
      tooltip: { ...(base(c).tooltip as object), trigger: 'item' },
    },
    marks: list.map((r, index) => ({
      series: 0,
      index,
      name: `${r.account} (${r.system})`,
      part: t('risks.ofScore', { power: r.power, weakness: r.weakness }),
      value: String(r.score),
      to: `/accounts/${r.account_id}?tab=rights`,
    })),
  }
}
