import { describe, expect, it, vi } from 'vitest'
import RecipientForm from '../components/RecipientForm.vue'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import RequirementForm from '../components/RequirementForm.vue'
import Messages from './Messages.vue'
import Requirements from './Requirements.vue'

const duty = {
  id: 1,
  name: 'duty',
  kind: 'webhook',
  address: 'https://duty.larkmoor.example/moss',
  least: 'error',
  events: ['rotation.*'],
  labels: ['quay'],
  secret: true,
  paused: false,
  waiting: 2,
  given_up: 3,
  trouble: 'it answered HTTP 503',
  since: '2026-11-01T00:00:00Z',
  revision: 4,
  changed: '2026-11-01T00:00:00Z',
  changed_by: 'ines',
}
const one = (item: unknown) => ({ items: [item], total: 1, more: false, next: '', columns: [] })

describe('recipients', () => {
  it('says what each is told, what waits for it, and why', async () => {
    serve({ 'GET /recipients': one(duty) })
    const p = await show(Messages, { at: '/messages' })
    await vi.waitFor(() => expect(p.read()).toContain('error and graver; rotation.*; about accounts with quay'))
    expect(p.page.html(), 'something is wrong with it').toContain('webhook')
  })
  it('tells what the other side said to a test, and why it could not be sent', async () => {
    let refuse = false
    const service = serve({
      'GET /recipients': one(duty),
      'POST /recipients/duty/test': () => {
        if (refuse) return new Refusal(409, 'duty at https://duty.larkmoor.example/moss: no route to host')
        return { said: 'HTTP 204 No Content' }
      },
      'POST /recipients/duty/retry': { messages: 3 },
    })
    const p = await show(Messages, { at: '/messages' })
    await vi.waitFor(() => expect(p.read()).toContain('duty.larkmoor'))
    await p.button('Test').press()
    await vi.waitFor(() => expect(p.read()).toContain('A test was sent to duty: HTTP 204 No Content.'))
    refuse = true
    await p.button('Test').press()
    await vi.waitFor(() => expect(p.read()).toContain('no route to host'))
    await p.button('Send again').press()
    await vi.waitFor(() => expect(p.read()).toContain('3 messages to duty are sent again.'))
    expect(service.sent()).toHaveLength(3)
  })
  it('lets those only look who may not change it', async () => {
    serve({ 'GET /recipients': one({ ...duty, given_up: 0 }) })
    const p = await show(Messages, { at: '/messages', roles: ['auditor'] })
    await vi.waitFor(() => expect(p.read()).toContain('duty.larkmoor'))
    expect(p.read()).not.toContain('Add a recipient')
    expect(p.read()).not.toContain('Remove')
  })
})

describe('the form of a recipient', () => {
  it('asks for a secret of a webhook, sends it once, and keeps it nowhere', async () => {
    const service = serve({ 'GET /event-names': [{ name: 'rotation.finished', severity: 'notice' }], 'PUT /recipients/watch': {} })
    const p = await show(RecipientForm)
    await p.field('Name').fill('watch')
    await p.field('Address').fill('https://watch.larkmoor.example/')
    expect(p.button('Save it').off, 'a webhook has a secret').toBe(true)
    await p.field('Secret that messages are signed with').fill('fog-over-the-harbour')
    await p.button('Save it').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    const body = service.sent()[0]!.body
    expect(body).toMatchObject({
      kind: 'webhook',
      address: 'https://watch.larkmoor.example/',
      secret: 'fog-over-the-harbour',
      least: 'warning',
      revision: 0,
    })
    expect(body).not.toHaveProperty('to')
    expect(p.read()).not.toContain('fog-over-the-harbour')
  })
  it('keeps the secret of one that is changed, and says the revision that was seen', async () => {
    const service = serve({ 'GET /event-names': [], 'PUT /recipients/duty': {} })
    const p = await show(RecipientForm, { props: { of: duty } })
    await p.field('Description').fill('the night watch')
    await p.button('Save it').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toMatchObject({ revision: 4, description: 'the night watch', events: ['rotation.*'] })
    expect(service.sent()[0]!.body).not.toHaveProperty('secret')
  })
})

describe('requirements', () => {
  const quay = {
    id: 3,
    name: 'quay',
    label: 'quay',
    restarts: 10,
    kinds: ['service'],
    unread: true,
    hours: 8,
    revision: 2,
    changed: '2026-11-01T00:00:00Z',
    changed_by: 'ines',
  }
  it('says for which rotations, and that lifting one waits for somebody else', async () => {
    serve({ 'GET /requirements': one(quay), 'DELETE /requirements/quay': { waits_for_approval: 7 } })
    const p = await show(Requirements, { at: '/requirements' })
    await vi.waitFor(() => expect(p.read()).toContain('label quay, 10 restarts or more, of service, systems are not read'))
    await p.button('Remove').press()
    await vi.waitFor(() => expect(p.read()).toContain('It waits for approval 7: somebody else grants it.'))
  })
  it('is kept only when it says something', async () => {
    const service = serve({ 'PUT /requirements/wide': {} })
    const p = await show(RequirementForm)
    await p.field('Name').fill('wide')
    expect(p.button('Save it').off, 'for all rotations is no requirement').toBe(true)
    await p.field('So many dependents are restarted, or more').fill(10)
    await p.button('Save it').press()
    await vi.waitFor(() => expect(service.sent()).toHaveLength(1))
    expect(service.sent()[0]!.body).toMatchObject({ restarts: 10, label: '', hours: 24, revision: 0 })
  })
})
