import type { RouteLocationRaw } from 'vue-router'
import type { Colours } from '../look/tokens'

/** One mark of a picture: what it says, and where it leads. The table under the picture has the same. */
export interface Mark {
  series: number
  index: number
  name: string
  part: string
  value: string
  to?: RouteLocationRaw
}

export interface Drawing {
  /** What the chart library draws. */
  option: Record<string, unknown>
  marks: Mark[]
  height: number
}

/** What all pictures share: fonts, lines, the words beside a mark. */
export function base(c: Colours): Record<string, unknown> {
  return {
    animation: false,
    textStyle: { fontFamily: "system-ui, 'DejaVu Sans', sans-serif", color: c.ink },
    tooltip: {
      confine: true,
      backgroundColor: c.panel,
      borderColor: c.line,
      textStyle: { color: c.ink, fontSize: 13 },
      axisPointer: { type: 'none' },
    },
    aria: { enabled: false },
  }
}

export function axis(c: Colours): Record<string, unknown> {
  return {
    axisLine: { lineStyle: { color: c.line } },
    axisTick: { show: false },
    axisLabel: { color: c.soft, fontSize: 12 },
    splitLine: { lineStyle: { color: c.line } },
  }
}

export interface Count {
  of: string
  is: string
  count: number
}

/** Bars of counts: a bar for each name, in parts of the given order and colours. */
export function bars(
  counts: Count[],
  wish: {
    names: { key: string; text: string }[]
    parts: { key: string; text: string; colour: string; dotted?: boolean }[]
    upright?: boolean
    colours: Colours
    /** A colour for each name instead, where there is one part only. */
    byName?: (key: string) => string
    to?: (name: string, part: string) => RouteLocationRaw | undefined
    say: (n: number) => string
  },
): Drawing {
  const c = wish.colours
  const at = new Map(counts.map((v) => [`${v.of}\n${v.is}`, v.count]))
  const of = (name: string, part: string) => at.get(`${name}\n${part}`) ?? 0
  const parts = wish.parts.filter((p) => wish.names.some((n) => of(n.key, p.key) > 0))
  const names = { type: 'category', data: wish.names.map((n) => n.text), ...axis(c), splitLine: { show: false }, inverse: !wish.upright }
  const values = { type: 'value', minInterval: 1, splitNumber: 4, ...axis(c) }
  const series = parts.map((part) => ({
    name: part.text,
    type: 'bar',
    stack: 'all',
    barMaxWidth: wish.upright ? 40 : 18,
    barMinHeight: 3,
    itemStyle: {
      color: part.colour,
      borderColor: part.dotted ? c.unknown : c.panel,
      borderWidth: 1,
      borderType: part.dotted ? 'dotted' : 'solid',
    },
    emphasis: { itemStyle: { borderColor: c.ink, borderWidth: 2 } },
    data: wish.names.map((n) => ({
      value: of(n.key, part.key) || null,
      ...(wish.byName ? { itemStyle: { color: wish.byName(n.key) } } : {}),
    })),
  }))
  const marks = parts.flatMap((part, s) =>
    wish.names.flatMap((n, i) => {
      const count = of(n.key, part.key)
      return count ? [{ series: s, index: i, name: n.text, part: part.text, value: wish.say(count), to: wish.to?.(n.key, part.key) }] : []
    }),
  )
  // In the order in which they stand, so that arrow keys walk them so.
  marks.sort((a, b) => a.index - b.index || a.series - b.series)
  const height = wish.upright ? 210 : Math.max(90, wish.names.length * 28 + (parts.length > 1 ? 66 : 40))
  return {
    marks,
    height,
    option: {
      ...base(c),
      grid: { left: 8, right: 16, top: parts.length > 1 ? 34 : 10, bottom: 4, containLabel: true },
      legend:
        parts.length > 1
          ? { top: 0, left: 0, itemWidth: 12, itemHeight: 12, textStyle: { color: c.soft }, selectedMode: false }
          : undefined,
      xAxis: wish.upright ? names : values,
      yAxis: wish.upright ? values : names,
      series,
    },
  }
}
