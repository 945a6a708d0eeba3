import { flushPromises } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import AddSystem from './AddSystem.vue'

const kinds = [
  {
    kind: 'unix-host',
    title: 'unix host',
    port: 22,
    proof: 'host-key',
    sign_in: ['password', 'private-key'],
    scopes: [],
    acts: [],
    options: [{ name: 'paths', type: 'paths', help: 'further files to read' }],
  },
  {
    kind: 'redis',
    title: 'Redis',
    port: 6379,
    proof: 'certificate',
    sign_in: ['password'],
    scopes: [],
    acts: [],
    options: [{ name: 'tls', type: 'choice', choices: ['on', 'off'], default: 'on', help: 'speak TLS' }],
  },
]
const stewards = { items: [{ name: 'hosts', account: 'mossmgr' }], total: 1 }

function service(more: Record<string, unknown> = {}) {
  return serve({ 'GET /kinds': kinds, 'GET /stewards': stewards, 'POST /systems': {}, ...more })
}

describe('adding a system', () => {
  it('asks what its kind needs, and sends only what was set', async () => {
    const s = service()
    const p = await show(AddSystem)
    expect(p.read()).toContain('Port, if it is not 22')
    expect(p.read()).not.toContain('CA certificate')
    await p.field('Name').fill('cache1')
    await p.page.find('.ant-collapse-header').trigger('click')
    await flushPromises()
    await p.field('Further files to read').fill('/etc/x')
    await p.field('Kind').fill('redis')
    expect(p.read()).toContain('Port, if it is not 6379')
    expect(p.read()).toContain('CA certificate')
    await p.field('Speak TLS').fill('off')
    await p.field('Steward').fill('hosts')
    await p.field('Port').fill('6380')
    await p.button('Add the system').press()
    const sent = s.asked.find((a) => a.method === 'POST')!
    expect(sent.body).toEqual({
      name: 'cache1',
      kind: 'redis',
      address: '',
      port: 6380,
      steward: 'hosts',
      site: '',
      environment: '',
      owner: '',
      options: { tls: 'off' },
      trusted_ca: '',
    })
    expect(p.page.emitted('done')).toHaveLength(1)
    expect(p.router.currentRoute.value.path).toBe('/systems/cache1')
  })

  it('stores a new steward first, and forgets its secrets whatever came of it', async () => {
    const s = service({ 'PUT /stewards/new1': {}, 'POST /systems': new Refusal(409, 'system "a": already there') })
    const p = await show(AddSystem)
    await p.field('Name').fill('a')
    await p.field('Steward').fill(' new')
    await p.field('Name of the steward').fill('new1')
    await p.field('Account').fill('mossmgr')
    await p.field('Password').fill('Steward-Passw0rd-1')
    await p.button('Add the system').press()
    expect(s.asked.filter((a) => a.method !== 'GET').map((a) => `${a.method} ${a.path}`)).toEqual([
      'PUT /api/v1/stewards/new1',
      'POST /api/v1/systems',
    ])
    expect(s.asked.find((a) => a.method === 'PUT')!.body).toEqual({ account: 'mossmgr', password: 'Steward-Passw0rd-1' })
    expect(p.read()).toContain('already there')
    expect(p.field('Password').value()).toBe('')
    expect(p.page.emitted('done')).toBeUndefined()
    expect(p.field('Name').value(), 'what was typed is still there').toBe('a')
  })

  it('sends nothing that is missing a name or a steward', async () => {
    const s = service()
    const p = await show(AddSystem)
    await p.button('Add the system').press()
    await p.field('Name').fill('a')
    await p.button('Add the system').press()
    expect(s.asked.filter((a) => a.method === 'POST')).toHaveLength(0)
  })

  it('offers a new steward to administrators only, and tells when it knows no kinds', async () => {
    service()
    const p = await show(AddSystem, { roles: ['operator'] })
    expect(p.page.html()).not.toContain('a new one')
    service({ 'GET /kinds': new Refusal(503, 'the service is starting') })
    const q = await show(AddSystem)
    await flushPromises()
    expect(q.read()).toContain('the service is starting')
  })
})
