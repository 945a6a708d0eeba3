import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import type { Schemas } from '../api/client'
import ImportUses from '../components/ImportUses.vue'
import SessionsList from '../components/SessionsList.vue'
import { Refusal, serve, type Asked } from '../testing/service'
import { show } from '../testing/show'
import Changes from './Changes.vue'

type Change = Schemas['SeenChange']
const one = (more: Partial<Change>): Change => ({
  id: 1,
  at: '2026-11-27T21:00:00Z',
  subject: 'account',
  what: 'new',
  name: 'svc-new',
  kind: 'user',
  system: 'dir',
  system_id: 1,
  account_id: 7,
  made_by: 'others',
  fields: [],
  custody: false,
  words: '',
  ...more,
})
const page = (...items: Change[]) => ({ items, total: items.length })

describe('changes', () => {
  it('mark new accounts that nobody manages, and lead to what changed and what changed it', async () => {
    serve({
      'GET /changes': page(
        one({}),
        one({ id: 2, name: 'svc-kept', custody: true }),
        one({
          id: 3,
          subject: 'dependent',
          what: 'changed',
          name: 'berth.service',
          account_id: 0,
          dependent_id: 9,
          made_by: 'moss-ledger',
          rotation_id: 4,
        }),
        one({ id: 4, subject: 'system', what: 'gone', name: 'old1', system: 'old1', system_id: 0, account_id: 0, made_by: 'people' }),
      ),
    })
    const p = await show(Changes)
    const rows = p.page.findAll('tbody tr.ant-table-row').map((r) => r.text())
    expect(rows[0]).toContain('not in custody')
    expect(rows[1]).not.toContain('not in custody')
    expect(rows[2]).toContain('rotation 4')
    expect(rows[3]).toContain('people here')
    const ways = p.page.findAll('tbody a').map((a) => a.attributes('href'))
    expect(ways).toEqual(expect.arrayContaining(['/accounts/7', '/dependents/9', '/rotations/4', '/systems/dir']))
    expect(ways, 'a system that was removed has no page').not.toContain('/systems/old1')
  })
  it('tell field by field what differs, lists by what came and went', async () => {
    serve({
      'GET /changes': page(
        one({
          what: 'changed',
          fields: [
            { name: 'groups', added: ['operators'], removed: ['backup'] },
            { name: 'enabled', from: 'yes', to: 'no' },
            { name: 'owner', to: 'ines' },
          ],
        }),
      ),
    })
    const p = await show(Changes)
    await p.page.find('tbody tr.ant-table-row').trigger('click')
    await flushPromises()
    await vi.waitFor(() => expect(p.read()).toContain('− backup'))
    expect(p.read()).toMatch(/\+ operators.*enabledyesno.*ownernothingines/)
  })
  it('tell who it was where the system tells that, and who was merely there', async () => {
    const seen = { first: '2026-11-27T20:30:00Z', last: '2026-11-27T20:40:00Z', count: 1 }
    serve({
      'GET /changes': page(
        one({
          by_whom: 'odile changed an account',
          witnesses: {
            since: '2026-11-27T20:00:00Z',
            until: '2026-11-27T21:00:00Z',
            list: [
              { who: 'odile', act: 'changed an account', it: true, ...seen },
              { who: 'jonas', from: '192.0.2.7', act: 'signed in', it: false, ...seen, count: 3 },
            ],
          },
        }),
        one({ id: 2, name: 'svc-quiet', witnesses: { since: '2026-11-27T20:00:00Z', until: '2026-11-27T21:00:00Z', list: [] } }),
      ),
    })
    const p = await show(Changes)
    const rows = p.page.findAll('tbody tr.ant-table-row')
    expect(rows[0]!.text()).toContain('odile')
    expect(rows[0]!.text(), 'who was there is not who did it').not.toContain('jonas')
    await rows[0]!.trigger('click')
    await vi.waitFor(() => expect(p.read()).toContain('was signed in'))
    expect(p.read()).toMatch(/odile.*changed it.*jonas.*from 192\.0\.2\.7.*was signed in.*3 times/)
    expect(p.read()).toContain('whether they did it is not known')
    await rows[1]!.trigger('click')
    await vi.waitFor(() => expect(p.read()).toContain('Nobody signed in between the two looks'))
  })
  it('ask for a time and for what it all comes to, and keep both in the address', async () => {
    const service = serve({ 'GET /changes': page() })
    const p = await show(Changes, { at: '/changes?since=week' })
    const asked = () => service.asked.filter((a: Asked) => a.path.endsWith('/changes')).at(-1)!.query
    expect(Date.now() - Date.parse(asked().get('since')!)).toBeLessThan(7 * 86_400_000 + 60_000)
    expect(Date.now() - Date.parse(asked().get('since')!)).toBeGreaterThan(7 * 86_400_000 - 60_000)
    expect(asked().has('net')).toBe(false)
    expect(p.read()).toContain('Nothing changed in this time')
    await p.page.find('button[role=switch]').trigger('click')
    await flushPromises()
    await vi.waitFor(() => expect(asked().get('net')).toBe('true'))
    expect(p.router.currentRoute.value.query).toEqual({ since: 'week', net: 'yes' })
  })
})

describe('sessions', () => {
  const two = {
    items: [
      {
        id: 'aaaaaaaaaaaaaaaa',
        user: 'ines',
        address: '192.0.2.4',
        created: '2026-11-28T08:00:00Z',
        expires: '2026-11-28T20:00:00Z',
        current: true,
      },
      {
        id: 'bbbbbbbbbbbbbbbb',
        user: 'ines',
        address: '',
        created: '2026-11-28T07:00:00Z',
        expires: '2026-11-28T19:00:00Z',
        current: false,
      },
    ],
    total: 2,
  }
  it('are ended one by one, but not the one that asks', async () => {
    const service = serve({ 'GET /sessions': two, 'DELETE /sessions/bbbbbbbbbbbbbbbb': {} })
    const p = await show(SessionsList)
    expect(p.page.findAll('tbody button')).toHaveLength(1)
    await p.button('End it').press()
    const asks = [...document.querySelectorAll<HTMLElement>('.ant-popconfirm .ant-btn-primary')]
    asks.at(-1)!.click()
    await flushPromises()
    expect(service.sent().map((a) => a.path)).toEqual(['/api/v1/sessions/bbbbbbbbbbbbbbbb'])
  })
  it('do not name their owner to who sees only their own', async () => {
    serve({ 'GET /sessions': two })
    const p = await show(SessionsList, { roles: ['viewer'] })
    expect(p.page.findAll('th').map((h) => h.text())).not.toContain('Of')
  })
})

describe('uses that a directory recorded', () => {
  const choose = async (p: Awaited<ReturnType<typeof show>>, text: string) => {
    const input = document.querySelector<HTMLInputElement>('.ant-modal input[type=file]')!
    Object.defineProperty(input, 'files', { value: [new File([text], 'auth.json')], configurable: true })
    input.dispatchEvent(new Event('change'))
    await vi.waitFor(() => expect(p.read()).toContain('auth.json'))
  }
  it('are sent in parts, and counted', async () => {
    const service = serve({ 'POST /systems/dir/uses': { uses: 2, kinds: 1, bad: 1 } })
    const p = await show(ImportUses, { props: { system: 'dir' } })
    const long = 'x'.repeat(70_000)
    await choose(p, Array.from({ length: 5001 }, (_, i) => `{"n":${i}}`).join('\n') + `\n\n${long}\nlast`)
    await p.button('Take them in').press()
    await vi.waitFor(() => expect(p.read()).toContain('4 sign-ins taken in from 5002 lines.'))
    const sent = service.sent().map((a) => (a.body as { lines: string[] }).lines)
    expect(sent.map((l) => l.length)).toEqual([5000, 2])
    expect(sent.at(-1), 'what has no line end is a line, what is no record is left here').toEqual(['{"n":5000}', 'last'])
    expect(p.read()).toContain('2 lines looked like records and were none.')
  })
  it('say what was refused', async () => {
    serve({ 'POST /systems/quay1/uses': new Refusal(400, 'quay1 is a unix-host') })
    const p = await show(ImportUses, { props: { system: 'quay1' } })
    await choose(p, '{}')
    await p.button('Take them in').press()
    await vi.waitFor(() => expect(p.read()).toContain('quay1 is a unix-host'))
  })
})
