import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { comparison, decisionOf } from './rehearsal'

const check = (result: string, what: string) => ({ result, system: 'tide1', what, about: '' })
const answer = (id: number, steps: string[], checks: object[] = [], notes: object[] = [], plan: object[] = []) =>
  ({
    interruption: '',
    steps,
    rehearsal: {
      id,
      verdict: 'passed',
      created: '2026-11-28T08:00:00Z',
      created_by: 'ines',
      credential_id: 1,
      checks,
      plan: { notes, steps: plan },
    },
  }) as unknown as Schemas['RehearsalAnswer']

describe('a decision', () => {
  it('has what is not known apart from what is known', () => {
    const d = decisionOf(
      answer(
        1,
        [],
        [check('ok', 'a'), check('warning', 'b'), check('unchecked', 'c'), check('failed', 'd')],
        [
          { kind: 'unexplained', text: 'where till gets it' },
          { kind: 'info', text: 'waits 30 minutes' },
          { kind: 'out-of-reach', text: 'dock9' },
          { kind: 'left', text: 'a copy stays' },
        ],
      ),
    )
    expect(d.unknown.map((n) => n.text)).toEqual(['where till gets it', 'dock9'])
    expect(d.notes.map((n) => n.text)).toEqual(['waits 30 minutes', 'a copy stays'])
    expect(
      d.wrong.map((c) => c.what),
      'the gravest first',
    ).toEqual(['d', 'b'])
    expect([d.unchecked.length, d.fine.length]).toEqual([1, 1])
  })
  it('counts places and what stands still, each once', () => {
    const d = decisionOf(
      answer(
        1,
        [],
        [],
        [],
        [
          { kind: 'seal', system: '' },
          { kind: 'change', system: 'dir' },
          { kind: 'replace', system: 'quay1' },
          { kind: 'stop', subject: 'berth', system: 'quay1' },
          { kind: 'restart', subject: 'berth', system: 'quay1', along: [{ kind: 'unit', place: 'gangway' }] },
        ],
      ),
    )
    expect([d.places, d.systems, d.restarts]).toEqual([2, 2, ['berth on quay1', 'gangway on quay1']])
  })
})

describe('compared with the one before', () => {
  it('says what is new and what is gone', () => {
    const c = comparison(answer(1, ['seal', 'replace a'], [check('failed', 'no right')]), answer(2, ['seal', 'replace b']))
    expect(c.more).toEqual(['replace b'])
    expect(c.less).toEqual(['replace a', 'tide1: no right: failed'])
    expect(c.since).toBe('2026-11-28T08:00:00Z')
  })
  it('says nothing without one, or with itself', () => {
    expect(comparison(undefined, answer(2, ['a'])).since).toBeUndefined()
    expect(comparison(answer(2, ['a']), answer(2, ['b'])).since).toBeUndefined()
  })
})
