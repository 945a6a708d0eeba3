import { RadioGroup, Select } from 'ant-design-vue'
import { describe, expect, it, vi } from 'vitest'
import ManagedHosts from '../components/ManagedHosts.vue'
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
          { ...line('a root key is in effect', 'ok'), about: 'directory' },
          { ...line('NORTH1 knows that it is permitted', 'failed', 'restart it'), about: 'learned' },
          { ...line('types', 'warning', 'set both'), about: 'account' },
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
    expect(text).toContain('waits for a restart: NORTH1')
    expect(text).toContain('2 dependents')
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
  it('asks which hosts are let in, and from whom it is taken', async () => {
    const service = serve({
      ...answers,
      'POST /accounts/7/managed/hosts': { id: 13 },
      'POST /accounts/7/managed/removal': { id: 14 },
    })
    const begin = () => document.querySelector<HTMLButtonElement>('.ant-modal-footer .ant-btn-primary')!
    const letIn = await show(ManagedHosts, { at: '/managed', props: { account: lockers } })
    expect(letIn.read()).toContain('Hosts become members of the group')
    expect(begin().disabled).toBe(true)
    letIn.page.findComponent(Select).vm.$emit('update:value', ['north1'])
    await vi.waitFor(() => expect(begin().disabled).toBe(false))
    begin().click()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toEqual({ hosts: ['north1'], group: '', restart: true })
    letIn.page.unmount()

    const taking = await show(ManagedHosts, { at: '/managed', props: { account: lockers, removing: true } })
    expect(taking.read()).toContain('It is refused while anything is known to use the account there')
    taking.page.findComponent(RadioGroup).vm.$emit('update:value', 'all')
    await vi.waitFor(() => expect(taking.read()).toContain('deleted when nothing has asked for it'))
    begin().click()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(2))
    expect(service.sent()[1]!.body).toEqual({ watch_hours: 168 })
  })
})
