import { describe, expect, it, vi } from 'vitest'
import { serve } from '../testing/service'
import { show } from '../testing/show'
import Managed from './Managed.vue'

const lockers = { id: 7, name: 'gmsa-lockers$', system: 'domain', enabled: 'yes', dependents: 2, description: 'Luggage lockers' }
const answers = {
  'GET /accounts': { items: [lockers], total: 1 },
  'GET /systems': { items: [{ name: 'domain' }], total: 1 },
}
const line = (what: string, result: string, next = '') => ({ system: 'domain', what, result, words: `seen: ${what}`, next })

describe('managed accounts', () => {
  it('checks one, with what is missing first, and says how much that is', async () => {
    const service = serve({
      ...answers,
      'GET /systems/domain/managed': {
        verdict: 'failed',
        checks: [
          line('a root key is in effect', 'ok'),
          line('NORTH1 knows that it is permitted', 'failed', 'restart it'),
          line('types', 'warning', 'set both'),
        ],
        account: { partly: 'it has members that no list tells' },
      },
    })
    const p = await show(Managed, { at: '/managed', route: '/managed' })
    await vi.waitFor(() => expect(p.read()).toContain('gmsa-lockers$'))
    await p.button('Check').press()
    await vi.waitFor(() => expect(p.read()).toContain('One thing that is needed is missing.'))
    const text = p.read()
    expect(text.indexOf('NORTH1 knows')).toBeLessThan(text.indexOf('seen: types'))
    expect(text.indexOf('seen: types')).toBeLessThan(text.indexOf('a root key'))
    expect(text).toContain('There may be more hosts: it has members that no list tells')
    expect(service.sent()).toHaveLength(0)
  })
  it('asks for a new one, and has it rehearsed', async () => {
    const service = serve({ ...answers, 'POST /systems/domain/managed': { id: 12 } })
    const p = await show(Managed, { at: '/managed', route: '/managed' })
    await vi.waitFor(() => expect(p.read()).toContain('gmsa-lockers$'))
    await p.button('Create a managed account').press()
    await vi.waitFor(() => expect(p.read()).toContain('At most 15 characters'))
    await p.field('Name').fill(' gmsa-gates ')
    await p.field('DNS name').fill('gates.larkmoor.example')
    await p.field('Group of hosts').fill('Gate Hosts')
    document.querySelector<HTMLButtonElement>('.ant-modal-footer .ant-btn-primary')!.click()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toEqual({
      name: 'gmsa-gates',
      dns_name: 'gates.larkmoor.example',
      interval_days: 30,
      group: 'Gate Hosts',
      container: '',
      services: [],
      old_types: false,
    })
  })
})
