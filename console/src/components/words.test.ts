import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { readFilter, writeFilter } from '../lists/listing'
import { t } from '../texts'
import StateTag from './StateTag.vue'
import { ago, lasting, moment, tone } from './words'

describe('words', () => {
  it.each([
    ['2026-11-23T07:00:00Z', '30 s ago', 30],
    ['2026-11-23T07:00:00Z', '10 min ago', 600],
    ['2026-11-23T07:00:00Z', '3 h ago', 10800],
    ['2026-11-23T07:00:00Z', '4 days ago', 345600],
    ['2026-11-23T07:00:00Z', 'in 2 h', -7200],
    ['2026-11-23T07:00:00Z', 'just now', -3],
    ['0001-01-01T00:00:00Z', '', 0],
  ])('%s is %s after %d seconds', (at, want, seconds) => {
    expect(ago(at, Date.parse('2026-11-23T07:00:00Z') + seconds * 1000)).toBe(want)
  })
  it('shows moments in UTC and nothing for none', () => {
    expect(moment('2026-11-23T07:05:06.5Z')).toBe('2026-11-23 07:05Z')
    expect(moment(undefined)).toBe('')
  })
  it('counts', () => expect([0, 1, 2].map((n) => t('n.systems', n))).toEqual(['no systems', '1 system', '2 systems']))
  it('says how long', () => expect([12, 1500, 240_000].map(lasting)).toEqual(['12 ms', '1.5 s', '4 min']))
  it('never colours an unknown state as good', () => expect(tone('surprise')).toBe('plain'))
})

describe('filters', () => {
  it.each(['name~svc-', 'name!~a=b', 'state!=ok', 'seen<2026-01-01', 'dn=CN=a,DC=b'])('reads and writes %s', (text) => {
    const f = readFilter(text)
    expect(f).toBeDefined()
    expect(writeFilter(f!)).toBe(text)
  })
  it('refuses what is none', () => expect(readFilter('nonsense')).toBeUndefined())
})

describe('StateTag', () => {
  it('always shows the word', () => {
    expect(mount(StateTag, { props: { state: 'failed' } }).text()).toBe('failed')
  })
})
