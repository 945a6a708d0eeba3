import { describe, expect, it } from 'vitest'
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
