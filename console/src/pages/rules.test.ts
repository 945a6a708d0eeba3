import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import AccountLabels from '../components/AccountLabels.vue'
import RemoveRule from '../components/RemoveRule.vue'
import RuleForm from '../components/RuleForm.vue'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import Rules from './Rules.vue'

const preview = {
  matches: 2,
  stops: 1,
  gain: 1,
  lose: 1,
  rows: [
    { account_id: 7, account: 'svc-berth', system: 'dir', label: 'service', gains: true, means: ['policy nightly'] },
    { account_id: 8, account: 'svc-old', system: 'dir', label: 'service', gains: false, means: [] },
  ],
  takes: 0,
  not_taken: 0,
  takings: [],
  revision: 0,
  mark: 'the-mark',
}
const rule = {
  id: 3,
  name: 'by-name',
  label: 'service',
  excludes: false,
  condition: 'account.name.startsWith("svc-")',
  revision: 1,
  matches: 8,
  changed: '2026-11-28T19:00:00Z',
  changed_by: 'ines',
}

describe('a rule', () => {
  it('is saved after its preview was seen, and only as it was seen', async () => {
    const service = serve({
      'GET /windows': { items: [], total: 0 },
      'GET /rules/fields': [{ name: 'account.name', type: 'text', what: 'x' }],
      'POST /rules/preview': preview,
      'PUT /rules/by-name': { accounts: 10, changed: 2 },
    })
    const p = await show(RuleForm)
    expect(p.button('Look at what it would do').off, 'nothing is written yet').toBe(true)
    await p.field('Name').fill('by-name')
    await p.field('Label').fill('service')
    await p.field('When').fill('account.name.startsWith("svc-")')
    expect(p.button('Save it').there).toBe(false)
    await p.button('Look at what it would do').press()
    await vi.waitFor(() => expect(p.read()).toContain('It matches 2 accounts. It stops matching one. Labels gained: 1, lost: 1.'))
    expect(p.read()).toContain('policy nightly')
    expect(p.button('Save it').there).toBe(true)
    await p.field('When').fill('true')
    expect(p.button('Save it').there, 'something else stands there now').toBe(false)
    await p.field('When').fill('account.name.startsWith("svc-")')
    await p.button('Save it').press()
    const saved = service.sent().at(-1)!
    expect(saved.method).toBe('PUT')
    expect(saved.body).toMatchObject({ label: 'service', excludes: false, condition: 'account.name.startsWith("svc-")', mark: 'the-mark' })
    expect(p.page.emitted('done')![0]).toEqual([
      'The rule by-name was saved and applied. Accounts that are matched otherwise than before: 2.',
    ])
  })
  it('says where a condition is wrong, in the words of the service', async () => {
    serve({
      'GET /windows': { items: [], total: 0 },
      'GET /rules/fields': [],
      'POST /rules/preview': new Refusal(400, "line 1, character 8: undeclared reference to 'account.nmae' (did you mean 'account.name'?)"),
    })
    const p = await show(RuleForm, { props: { of: rule } })
    await p.button('Look at what it would do').press()
    await vi.waitFor(() => expect(p.read()).toContain("did you mean 'account.name'?"))
    expect(p.button('Save it').there).toBe(false)
  })
  it('says what it would take into custody, and what not', async () => {
    const service = serve({
      'GET /rules/fields': [],
      'GET /windows': { items: [{ name: 'nights' }], total: 1 },
      'POST /rules/preview': {
        ...preview,
        takes: 1,
        not_taken: 1,
        takings: [
          { account_id: 7, account: 'svc-jetty', system: 'dir', takes: true },
          { account_id: 8, account: 'svc-berth', system: 'dir', takes: false, words: 'it is used, or may be, by berth.service on quay1' },
        ],
      },
    })
    const p = await show(RuleForm, { props: { of: { ...rule, take_in: 'nights' } } })
    await p.button('Look at what it would do').press()
    await vi.waitFor(() => expect(p.read()).toContain('Taken into custody by a reset, while the window is open: 1; not taken: 1.'))
    expect(p.read()).toContain('berth.service on quay1')
    expect(service.sent()[0]!.body).toMatchObject({ take_in: 'nights', take_unread: false })
  })
  it('goes after it was shown which labels go with it', async () => {
    const service = serve({ 'POST /rules/preview': { ...preview, matches: 0 }, 'DELETE /rules/by-name': { accounts: 1, changed: 1 } })
    const p = await show(RemoveRule, { props: { name: 'by-name' } })
    await flushPromises()
    expect(p.read()).toContain('It matches no account.')
    await p.button('Remove').press()
    const [looked, gone] = service.sent()
    expect(looked!.body).toEqual({ name: 'by-name', remove: true })
    expect(gone!.query.get('mark')).toBe('the-mark')
    expect(p.page.emitted('done')![0]).toEqual(['The rule by-name is gone.'])
  })
  it('is changed by administrators only', async () => {
    serve({ 'GET /rules': { items: [rule, { ...rule, id: 4, name: 'away', excludes: true }], total: 2 } })
    const p = await show(Rules, { roles: ['viewer', 'operator'] })
    expect(p.read()).toContain('excludes')
    expect(p.button('Add a rule').there).toBe(false)
    expect(p.button('Change').there).toBe(false)
  })
})

describe('labels of an account', () => {
  const labels = [
    { label: 'rotate-90', on: false, by_hand: true, set_by: 'ines', reason: 'asked for', rules: [], excluded: ['not-berth'] },
    { label: 'service', on: true, by_hand: false, rules: ['by-name'], excluded: [] },
  ]
  it('say why they are there, and what keeps them away', async () => {
    serve({ 'GET /accounts/7/labels': labels })
    const p = await show(AccountLabels, { props: { account: 7 }, roles: ['viewer'] })
    expect(p.read()).toContain('kept away by not-berth; given by ines: asked for')
    expect(p.read()).toContain('given by the rules by-name')
    expect(p.page.findAll('.away')).toHaveLength(1)
    expect(p.button('Give a label').there).toBe(false)
    expect(p.button('Take the label rotate-90 away').there).toBe(false)
  })
  it('are given with a reason, and taken away only where a person gave them', async () => {
    const service = serve({
      'GET /accounts/7/labels': labels,
      'PUT /accounts/7/labels/tier-0': [
        ...labels,
        { label: 'tier-0', on: true, by_hand: true, set_by: 'ines', reason: 'x', rules: [], excluded: [] },
      ],
      'DELETE /accounts/7/labels/rotate-90': [labels[1]],
    })
    const p = await show(AccountLabels, { props: { account: 7 } })
    expect(p.button('Take the label service away').there, 'a rule gives it').toBe(false)
    await p.button('Take the label rotate-90 away').press()
    expect(p.read()).not.toContain('rotate-90')
    await p.button('Give a label').press()
    await p.field('Label').fill('tier-0')
    await p.field('Reason').fill('keeps the keys')
    document.querySelector<HTMLFormElement>('form.put')!.dispatchEvent(new Event('submit', { cancelable: true, bubbles: true }))
    await flushPromises()
    expect(service.sent().at(-1)!.body).toEqual({ reason: 'keeps the keys' })
    expect(p.read()).toContain('tier-0')
  })
})
