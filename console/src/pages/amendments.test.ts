import { describe, expect, it, vi } from 'vitest'
import AmendForm from '../components/AmendForm.vue'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import AmendmentPage from './AmendmentPage.vue'

const rehearsed = {
  id: 3,
  charter: 'fuelcard-reader',
  subject: 'svc-fuelcard on bookings1',
  changes: 1,
  verdict: 'passed',
  mode: 'rehearsed',
  rehearsed: '2026-11-29T20:00:00Z',
  rehearsed_by: 'ines',
  checks: [
    { system: 'bookings1', what: 'give svc-fuelcard on bookings1 the membership of cardreaders', result: 'ok', words: 'getent says so' },
  ],
  left_out: ['the groups on bookings1: group gauges: its owner makes it'],
  decisions: [],
  steps: [],
}
const at = { at: '/amendments/3', route: '/amendments/:id' }

describe('a change of rights', () => {
  it('shows what was asked, begins with a reason, and says which approval it waits for', async () => {
    const service = serve({ 'GET /amendments/3': rehearsed, 'POST /amendments/3/start': { ...rehearsed, waits_for_approval: 9 } })
    const p = await show(AmendmentPage, at)
    await vi.waitFor(() => expect(p.read()).toContain('getent says so'))
    expect(p.read()).toContain('its owner makes it')
    await p.button('Begin').press()
    await p.field('Why these rights change').fill('the reorganisation took it')
    document.querySelector<HTMLButtonElement>('.ant-modal-footer .ant-btn-primary')!.click()
    await vi.waitFor(() => expect(p.read()).toMatch(/approval 9/))
    expect(service.sent()[0]!.body).toEqual({ reason: 'the reorganisation took it' })
  })
  it('offers what it takes now, and to nobody who may not decide', async () => {
    const stopped = {
      ...rehearsed,
      mode: 'stopped',
      decisions: ['resume', 'go-on', 'undo'],
      steps: [{ index: 0, kind: 'give', system: 'bookings1', title: 'give it', status: 'failed', words: 'usermod: it does not please' }],
    }
    const service = serve({
      'GET /amendments/3': stopped,
      'POST /amendments/3/decide': { ...stopped, mode: 'running', decisions: ['stop'] },
    })
    const p = await show(AmendmentPage, at)
    await vi.waitFor(() => expect(p.read()).toContain('it does not please'))
    await p.button('Try again').press()
    await vi.waitFor(() => expect(service.sent()[0]!.body).toMatchObject({ decision: 'resume' }))
    const q = await show(AmendmentPage, { ...at, roles: ['auditor'] })
    await vi.waitFor(() => expect(q.read()).toContain('it does not please'))
    expect(q.page.findAll('button').map((b) => b.text())).not.toContain('Undo')
  })
  it('says why nothing can be rehearsed', async () => {
    const service = serve({ 'POST /amendments': () => new Refusal(400, 'the charter proposes nothing of that') })
    const p = await show(AmendForm, { props: { charter: 'tide' } })
    document.querySelector<HTMLButtonElement>('.ant-modal-footer .ant-btn-primary')!.click()
    await vi.waitFor(() => expect(p.read()).toContain('proposes nothing of that'))
    expect(service.sent()[0]!.body).toMatchObject({ charter: 'tide', states: ['missing', 'forbidden'], on_failure: 'undo' })
  })
})
