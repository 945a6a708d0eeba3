import { describe, expect, it } from 'vitest'
import { colours } from '../look/tokens'
import { risks } from './risk'

const risk = (account: string, power: number, weakness: number) => ({
  account,
  account_id: account.length,
  system: 'quay1',
  system_id: 1,
  system_kind: 'unix-host',
  custody: false,
  parts: [],
  power,
  weakness,
  score: Math.round((power * weakness) / 100),
  since: '2026-11-01T00:00:00Z',
  words: '',
})

describe('the picture of risks', () => {
  it('has a mark for each account, the worst in another colour and named', () => {
    const d = risks([risk('svc-berth', 100, 90), risk('svc-tide', 60, 20), risk('root', 60, 2)], colours.light)
    const data = (d.option.series as { data: { itemStyle: { color: string }; label: { show: boolean }; value: number[] }[] }[])[0]!.data
    expect(data.map((v) => v.value)).toEqual([
      [90, 100, 90],
      [20, 60, 12],
      [2, 60, 1],
    ])
    expect(data.map((v) => v.itemStyle.color)).toEqual([colours.light.bad, colours.light.warn, colours.light.good])
    expect(d.marks.map((m) => [m.name, m.value, m.to])).toEqual([
      ['svc-berth (quay1)', '90', '/accounts/9?tab=rights'],
      ['svc-tide (quay1)', '12', '/accounts/8?tab=rights'],
      ['root (quay1)', '1', '/accounts/4?tab=rights'],
    ])
  })
})
