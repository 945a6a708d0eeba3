import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import FindingPanel from './FindingPanel.vue'
import RightsTree from './RightsTree.vue'
import { tree, words, type Held, type Node, type OfAccount } from './rights'

const link = (id: string, kind = 'group', more = {}) => ({ id, name: id, kind, ...more })
const held = (more: Partial<Held> = {}): Held => ({
  system: 'quay1',
  system_id: 1,
  verb: 'run',
  may: 'run',
  what: '/usr/bin/id',
  on: 'the system',
  of_objects: 1,
  objects: [{ kind: 'system', name: 'quay1' }],
  path: [link('svc', 'account')],
  through: '',
  list: 'sudo',
  seq: 0,
  ...more,
})
const group = (path: ReturnType<typeof link>[]) => ({ name: path[path.length - 1]!.id, kind: 'group' as const, through: '', path })
const shape = (nodes: Node[]): unknown[] => nodes.map((n) => (n.children?.length ? [n.title, shape(n.children)] : n.title))

describe('what an account may do', () => {
  it('is said in words', () => {
    expect(words(held({ as: 'root' }))).toBe('run /usr/bin/id as root')
    expect(words(held({ may: 'everything', what: undefined }))).toBe('everything on the system')
    expect(words(held({ may: 'not select', what: 'fare', on: 'table fares' }))).toBe('not select fare on table fares')
  })

  it('is a tree along the chains of groups', () => {
    const me = link('svc', 'account')
    const v: OfAccount = {
      account_id: 1,
      account: 'svc',
      system: 'quay1',
      read: {},
      elsewhere: [],
      groups: [
        group([me, link('crew')]),
        group([me, link('deck')]),
        group([me, link('crew'), link('ops', 'group', { term: 'after SET ROLE ops' })]),
      ],
      rights: [
        held({ path: [me, link('crew'), link('ops')], may: 'reset password', what: undefined, on: 'account a and 2 more', of_objects: 3 }),
        held(),
      ],
    }
    v.rights[0]!.objects = ['a', 'b', 'c'].map((name) => ({ kind: 'account', name }))
    const nodes = tree(v)
    expect(shape(nodes)).toEqual([
      ['By itself', ['run /usr/bin/id']],
      ['Group crew', [['Group ops', ['reset password on account a and 2 more']]]],
      'Group deck',
    ])
    const ops = nodes[1]!.children![0]!
    expect(ops.more).toBe('after SET ROLE ops')
    expect(ops.children![0]!.more).toBe('a, b, c')
    v.rights = []
    expect(shape(tree(v))[0]).toEqual(['Group crew', ['Group ops']])
  })

  it('marks what counts for nothing', () => {
    const v: OfAccount = {
      account_id: 1,
      account: 'svc',
      system: 'quay1',
      read: {},
      elsewhere: [],
      groups: [],
      rights: [
        held({ void: 'another entry forbids it', terms: ['with a password'], source: '/etc/sudoers:3', text: 'svc ALL = x' }),
        held({ deny: true }),
      ],
    }
    const [first, second] = tree(v)[0]!.children!
    expect(first!.void).toBe(true)
    expect(first!.more).toBe('with a password; another entry forbids it')
    expect(first!.text).toBe('svc ALL = x in /etc/sudoers:3')
    expect(second!.void).toBe(true)
  })
})

describe('what hosts give an account', () => {
  const mine = {
    account_id: 7,
    account: 'svc-terminal',
    system: 'dir',
    groups: [],
    rights: [],
    read: { completed: '2026-11-29T09:00:00Z' },
  }
  const there = (system: string, more = {}) => ({
    system,
    name: 'LARKMOOR\\svc-terminal',
    groups: [],
    rights: [held({ system, verb: 'sign in', may: 'sign in', what: 'as a service' })],
    read: { why: 'user rights are not told' },
    ...more,
  })

  it('stands below, with who it is there and what was not read', async () => {
    serve({ 'GET /accounts/7/rights': { ...mine, elsewhere: [there('skerry1'), there('north1', { rights: [], more: 3 })] } })
    const p = await show(RightsTree, { props: { account: 7, name: 'svc-terminal' } })
    for (const words of [
      'Nothing is given to svc-terminal',
      'On skerry1, as LARKMOOR\\svc-terminal',
      'sign in as a service',
      'user rights are not told',
      'On north1, as LARKMOOR\\svc-terminal',
      'Nothing is given to LARKMOOR\\svc-terminal',
      '3 more are not listed',
    ])
      expect(p.read()).toContain(words)
  })

  it('is not there where no host knows it, and trouble is told', async () => {
    serve({ 'GET /accounts/7/rights': { ...mine, elsewhere: [] } })
    expect((await show(RightsTree, { props: { account: 7, name: 'svc-terminal' } })).read()).not.toContain('On ')
    serve({ 'GET /accounts/7/rights': new Refusal(500, 'the database is away') })
    expect((await show(RightsTree, { props: { account: 7, name: 'svc-terminal' } })).read()).toContain('the database is away')
  })
})

describe('findings about one thing', () => {
  const finding = (more = {}) => ({
    id: 1,
    severity: 'high',
    subject: 'svc-terminal',
    system: 'dir',
    what: 'it must never have this',
    next_step: 'look',
    ...more,
  })
  it('name the system only where it is another one', () => {
    const p = (findings: unknown[], at?: string) =>
      mount(FindingPanel, { props: { findings: findings as never, about: 'svc-terminal', at } }).text()
    expect(p([finding()], 'dir')).not.toContain('dir')
    expect(p([finding({ system: 'skerry1' })], 'dir')).toContain('skerry1: it must never')
    expect(p([finding({ system: 'skerry1' })])).not.toContain('skerry1')
    expect(p([finding({ subject: 'BerthStore', system: 'skerry1' })], 'dir')).toContain('BerthStore on skerry1:')
  })
})
