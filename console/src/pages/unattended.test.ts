import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import AccountPolicy from '../components/AccountPolicy.vue'
import FreezeButton from '../components/FreezeButton.vue'
import FrozenBanner from '../components/FrozenBanner.vue'
import BatchForm from '../components/BatchForm.vue'
import OrderForm from '../components/OrderForm.vue'
import PolicyForm from '../components/PolicyForm.vue'
import { daysOf, daysRule } from '../components/recurrence'
import ScheduleCalendar from '../components/ScheduleCalendar.vue'
import WindowForm from '../components/WindowForm.vue'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import BatchPage from './BatchPage.vue'
import Policies from './Policies.vue'
import Schedule from './Schedule.vue'
import Windows from './Windows.vue'

const policy = {
  id: 1,
  name: 'nightly',
  label: 'rotate-30',
  precedence: 100,
  every_days: 30,
  window: 'nights',
  paused: false,
  credentials: 12,
  due: 1,
  revision: 4,
  changed: '2026-11-28T19:00:00Z',
  changed_by: 'ines',
}
const window = {
  id: 2,
  name: 'nights',
  rule: 'FREQ=WEEKLY;BYDAY=SA,SU',
  begins: '2026-11-28T22:00',
  zone: 'Europe/Oslo',
  minutes: 240,
  labels: ['boats'],
  systems: ['quay1'],
  dependents: [{ id: 9, system: 'quay2', place: 'berth.service' }],
  policies: ['nightly'],
  revision: 3,
  changed: '2026-11-28T19:00:00Z',
  changed_by: 'ines',
  open: true,
  slots: [{ from: '2026-11-28T21:00:00Z', to: '2026-11-29T01:00:00Z' }],
}
const effects = {
  decides: 12,
  gains: 2,
  loses: 0,
  openings: 30,
  most: 1,
  often: 'every 30 days',
  warnings: ['the window opens more rarely than that'],
  rows: [{ account_id: 7, credential: 'svc-berth', system: 'dir', was: '', becomes: 'nightly', next: '2026-12-01T21:00:00Z' }],
}
const one = (item: object) => ({ items: [item], total: 1 })

describe('a recurrence', () => {
  it('is days where its rule is a plain one, and nothing else', () => {
    expect(daysOf('FREQ=DAILY')).toEqual([])
    expect(daysOf('FREQ=WEEKLY;BYDAY=SA,SU')).toEqual(['SA', 'SU'])
    for (const more of ['FREQ=WEEKLY;BYDAY=SA;INTERVAL=2', 'FREQ=MONTHLY;BYDAY=2SU', 'FREQ=WEEKLY', 'FREQ=WEEKLY;BYDAY=XX', ''])
      expect(daysOf(more), more).toBeUndefined()
    expect(daysRule([])).toBe('FREQ=DAILY')
    expect(daysRule(['SU', 'MO'])).toBe('FREQ=WEEKLY;BYDAY=MO,SU')
    expect(daysRule(['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'])).toBe('FREQ=DAILY')
  })
})

describe('a policy', () => {
  const choices = { 'GET /windows': one(window), 'GET /labels': [{ label: 'rotate-30', accounts: 1, by_hand: 0, rules: 1 }] }
  it('is saved after what it would do was seen, and keeps what the form does not show', async () => {
    const service = serve({ ...choices, 'POST /policies/nightly/preview': effects, 'PUT /policies/nightly': policy })
    const p = await show(PolicyForm, { props: { of: policy } })
    expect(p.button('Save it').there).toBe(false)
    await p.field('At least once in').fill(60)
    await p.button('Show what it does').press()
    await vi.waitFor(() => expect(p.read()).toContain('It would decide for 12 credentials. For 2 of them it does not now.'))
    expect(p.read()).toContain('the window opens more rarely than that')
    expect(p.read()).toContain('svc-berth')
    await p.button('Save it').press()
    const saved = service.sent().at(-1)!
    expect(saved.body).toMatchObject({
      every_days: 60,
      label: 'rotate-30',
      window: 'nights',
      precedence: 100,
      revision: 4,
      on_failure: 'undo',
      at_window_end: 'pause',
    })
    expect(saved.body).not.toHaveProperty('rule')
    await p.field('At least once in').fill(61)
    expect(p.button('Save it').there, 'something else stands there now').toBe(false)
  })
  it('is for certificates by their ends, and says nothing of accounts then', async () => {
    const service = serve({ ...choices, 'POST /policies/nightly/preview': { ...effects, openings: 0, often: '21 days before its end' } })
    const p = await show(PolicyForm, { props: { of: { ...policy, every_days: 0, renew_days: 14, label: '', length: 40 } } })
    expect(p.read()).not.toContain('Quiet time')
    await p.field('Days before the end').fill(21)
    await p.button('Show what it does').press()
    await vi.waitFor(() => expect(p.read()).toContain('21 days before its end'))
    const asked = service.sent().at(-1)!.body as object
    expect(asked).toMatchObject({ renew_days: 21, label: '', window: 'nights', revision: 4 })
    for (const name of ['every_days', 'rule', 'length', 'quiet_hours', 'way', 'lead_days']) expect(asked).not.toHaveProperty(name)
  })
  it('is said wrong in the words of the service', async () => {
    serve({ ...choices, 'POST /policies/other/preview': new Refusal(400, 'the policy nightly has the precedence 100 already') })
    const p = await show(PolicyForm)
    await p.field('Name').fill('other')
    await p.button('Show what it does').press()
    await vi.waitFor(() => expect(p.read()).toContain('the policy nightly has the precedence 100 already'))
  })
  it('is listed with what it decides for, and goes as it was seen', async () => {
    const service = serve({ 'GET /policies': one(policy), 'DELETE /policies/nightly': new Refusal(412, 'it was changed by somebody else') })
    const p = await show(Policies, { at: '/policies' })
    await vi.waitFor(() => expect(p.read()).toContain('every 30 days'))
    await p.button('Remove').press()
    expect(p.read()).toContain('It decides for 12 credentials')
    await p.page.findAllComponents({ name: 'AModal' }).at(0)?.vm.$emit('ok')
    await flushPromises()
    await vi.waitFor(() => expect(p.read()).toContain('it was changed by somebody else'))
    expect(service.sent()[0]!.query.get('revision')).toBe('4')
  })
  it('is changed by administrators only', async () => {
    serve({ 'GET /policies': one(policy) })
    const other = await show(Policies, { at: '/policies', roles: ['operator'] })
    await vi.waitFor(() => expect(other.read()).toContain('nightly'))
    expect(other.button('Change').there).toBe(false)
    expect(other.button('Add a policy').there).toBe(false)
  })
  it('is explained on an account', async () => {
    serve({
      'GET /accounts/7/policy': {
        account_id: 7,
        account: 'svc-berth',
        system: 'dir',
        labels: ['boats'],
        words: 'the policy nightly rotates it every 30 days',
        policies: [{ policy: 'nightly', label: 'boats', precedence: 9, decides: true, because: 'it has the label boats' }],
        turns: [],
        window: 'nights',
      },
    })
    const p = await show(AccountPolicy, { props: { account: 7 } })
    await vi.waitFor(() => expect(p.read()).toContain('the policy nightly rotates it every 30 days'))
    await p.button('Why?').press()
    expect(p.read()).toContain('it has the label boats')
    expect(p.read()).toContain('Also people rotate it in the window nights.')
  })
})

describe('a window', () => {
  it('shows when it is open before it is saved, and keeps its dependents', async () => {
    const service = serve({ 'GET /labels': [], 'POST /windows/preview': window, 'PUT /windows/nights': window })
    const p = await show(WindowForm, { props: { of: window } })
    await p.field('At').fill('23:30')
    await p.button('Show when it is open').press()
    await vi.waitFor(() => expect(p.read()).toContain('Sat, 28 Nov 2026, 22:00'))
    await p.button('Save it').press()
    expect(service.sent().at(-1)!.body).toMatchObject({
      rule: 'FREQ=WEEKLY;BYDAY=SA,SU',
      begins: '2026-11-28T23:30',
      zone: 'Europe/Oslo',
      minutes: 240,
      labels: ['boats'],
      systems: ['quay1'],
      dependents: [{ id: 9 }],
      revision: 3,
    })
  })
  it('says what it counts for, and when it opens in words', async () => {
    serve({ 'GET /windows': one(window) })
    const p = await show(Windows, { at: '/windows' })
    await vi.waitFor(() => expect(p.read()).toContain('22:00 Sat, Sun (Europe/Oslo)'))
    expect(p.read()).toContain('policy nightly, label boats, quay1, quay2/berth.service')
    expect(p.read()).toContain('open')
  })
})

describe('an order', () => {
  it('is a sequence of at least two, or a group of so many at the same time', async () => {
    const service = serve({ 'PUT /orders/bookings': {} })
    const p = await show(OrderForm)
    await p.field('Name').fill('bookings')
    expect(p.button('Save it').off, 'a member says something').toBe(true)
    await p.field('System of member 1').fill('bookings1')
    await p.button('One more').press()
    await p.field('Place of member 2').fill('berth*')
    await p.button('Save it').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toMatchObject({
      kind: 'group',
      at_once: 1,
      members: [
        { system: 'bookings1', place: '' },
        { system: '', place: 'berth*' },
      ],
    })
  })
})

describe('the schedule', () => {
  const turn = {
    credential_id: 4,
    credential: 'svc-berth',
    account_id: 7,
    system: 'dir',
    policy: 'nightly',
    state: 'failed',
    since: '2026-11-01T00:00:00Z',
    next: '2026-11-29T21:00:00Z',
    due: '2026-11-28T21:00:00Z',
    failed: 2,
    words: 'the rehearsal failed: quay1: reach the system',
  }
  it('says who is rotated when, and who could not be', async () => {
    serve({ 'GET /schedule': one(turn) })
    const p = await show(Schedule, { at: '/schedule' })
    await vi.waitFor(() => expect(p.read()).toContain('the rehearsal failed: quay1'))
    expect(p.read()).toContain('not rotated')
  })
  it('is a calendar, by the day', async () => {
    const now = new Date()
    const service = serve({
      'GET /schedule/nights': [
        { from: now.toISOString(), to: now.toISOString(), policy: 'nightly', count: 22, credentials: ['svc-berth', 'svc-tide'] },
        { from: now.toISOString(), to: now.toISOString(), policy: 'rest', count: 1, credentials: ['svc-fuelcard'] },
      ],
    })
    const p = await show(ScheduleCalendar)
    await vi.waitFor(() => expect(p.read()).toContain('23 rotations'))
    expect(p.read()).toContain('svc-berth, svc-tide and 20 more')
    const before = service.asked.length
    await p.button('The month after').press()
    await vi.waitFor(() => expect(service.asked.length).toBeGreaterThan(before))
    expect(p.read()).toContain('Nothing is rotated by itself on this day.')
  })
})

describe('a freeze', () => {
  it('is told to everybody, and ended with a reason by who may', async () => {
    const service = serve({
      'GET /freeze': { frozen: true, by: 'odile', at: '2026-11-28T19:00:00Z', reason: 'the ticket system moves' },
      'DELETE /freeze': { frozen: false },
    })
    const p = await show(FrozenBanner, { roles: ['operator'] })
    await vi.waitFor(() => expect(p.read()).toContain('Everything is frozen by odile'))
    await p.button('Let it go on').press()
    await p.field('Reason').fill('it has moved')
    const press = [...document.querySelectorAll('.ant-popover form button')].at(-1) as HTMLButtonElement
    press.closest('form')!.dispatchEvent(new Event('submit', { cancelable: true }))
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.query.get('reason')).toBe('it has moved')
    serve({ 'GET /freeze': { frozen: true, by: 'odile', at: '2026-11-28T19:00:00Z', reason: 'x' } })
    const viewer = await show(FrozenBanner, { roles: ['viewer'] })
    await vi.waitFor(() => expect(viewer.read()).toContain('Everything is frozen'))
    expect(viewer.button('Let it go on').there).toBe(false)
  })
  it('is begun with a reason only', async () => {
    const service = serve({ 'PUT /freeze': { frozen: true } })
    const p = await show(FreezeButton)
    await p.button('Freeze everything').press()
    expect(p.read()).toContain('No rotation begins')
    await p.field('Why (recorded)').fill('storm')
    const ok = [...document.querySelectorAll('.ant-modal-footer button')].at(-1) as HTMLButtonElement
    ok.click()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toEqual({ reason: 'storm' })
  })
})

describe('a batch', () => {
  const batch = {
    id: 3,
    requested_by: 'ines',
    reason: 'Odile left',
    chosen: 'the label boats',
    at_once: 4,
    state: 'rehearsed',
    despite_failures: false,
    created: '2026-11-28T19:00:00Z',
    total: 8,
    waiting: 0,
    ready: 7,
    blocked: 1,
    rotating: 0,
    done: 0,
    failed: 0,
  }
  it('is asked for by names, and what is wrong with them is told', async () => {
    const service = serve({ 'GET /labels': [], 'POST /batches': new Refusal(400, 'nothing was kept: line 2: "nobody": not found') })
    const p = await show(BatchForm)
    ;[...document.querySelectorAll<HTMLInputElement>('.ant-segmented-item-input')][1]!.click()
    await flushPromises()
    await p.field('Names').fill('svc-berth\nnobody')
    expect(p.button('Rehearse them all').off, 'a reason is missing').toBe(true)
    await p.field('Reason (recorded)').fill('Odile left')
    await p.button('Rehearse them all').press()
    await vi.waitFor(() => expect(p.read()).toContain('line 2: "nobody": not found'))
    expect(service.sent()[0]!.body).toMatchObject({ names: ['svc-berth', 'nobody'], reason: 'Odile left', on_failure: 'undo', at_once: 4 })
    expect(service.sent()[0]!.body).not.toHaveProperty('label')
  })
  it('shows one line each, and starts the others only when asked', async () => {
    const service = serve({
      'GET /batches/3': batch,
      'GET /batches/3/items': {
        items: [
          {
            position: 1,
            credential_id: 4,
            credential: 'svc-berth',
            state: 'blocked',
            words: 'quay1: connection refused',
            restarts: 0,
            behind: [],
          },
        ],
        total: 1,
      },
      'POST /batches/3/retry': { ...batch, state: 'rehearsing' },
    })
    const p = await show(BatchPage, { at: '/batches/3', route: '/batches/:id' })
    await vi.waitFor(() => expect(p.read()).toContain('quay1: connection refused'))
    expect(p.read()).toContain('8 in all: 0 done, 0 being rotated, 7 ready, 1 did not pass')
    expect(p.button('Rotate the others').there).toBe(true)
    expect(p.button('Rotate them').there).toBe(false)
    await p.button('Try again what failed').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(p.button('Stop').there).toBe(true)
  })
  it('takes new values from a file, and does not keep them', async () => {
    const service = serve({ 'GET /labels': [], 'POST /batches': batch })
    const p = await show(BatchForm)
    ;[...document.querySelectorAll<HTMLInputElement>('.ant-segmented-item-input')][4]!.click()
    await flushPromises()
    const input = document.querySelector<HTMLInputElement>('input[type=file]')!
    const text = 'svc-berth,Kelp7-Wrack-3qZ7!vTn\nsvc-tide,Bladder-Wrack-99qZ!vT\n'
    Object.defineProperty(input, 'files', { value: [new File([text], 'values.csv')] })
    input.dispatchEvent(new Event('change', { bubbles: true }))
    await vi.waitFor(() => expect(p.read()).toContain('2 lines were read.'))
    expect(document.body.innerHTML).not.toContain('Kelp7')
    await p.field('Reason (recorded)').fill('the move')
    await p.button('Rehearse them all').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toMatchObject({ values: text, reason: 'the move' })
  })
  it('says that a second person is needed, and which approval it waits for', async () => {
    const given = { ...batch, ready: 8, blocked: 0, second: 8, given: 8 }
    serve({
      'GET /batches/3': given,
      'GET /batches/3/items': { items: [], total: 0 },
      'POST /batches/3/start': { ...given, waits_for_approval: 9 },
    })
    const p = await show(BatchPage, { at: '/batches/3', route: '/batches/:id' })
    await vi.waitFor(() => expect(p.read()).toContain('ines gave 8 of 8 values and knows them'))
    await p.button('Rotate them').press()
    await flushPromises()
    document.querySelector<HTMLButtonElement>('.ant-popconfirm-buttons .ant-btn-primary')!.click()
    await vi.waitFor(() => expect(p.read()).toMatch(/approval 9/i))
  })
})
