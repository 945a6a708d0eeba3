import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { live, startChanges, stopChanges } from '../api/changes'
import { api, data, Problem } from '../api/client'
import { Refusal, serve } from '../testing/service'
import { useSession } from './session'

const ines = { name: 'ines', roles: ['operator', 'approver'] }
interface Stream extends EventTarget {
  url: string
  closed: boolean
  onopen?: () => void
  onerror?: () => void
}
const streams = () => (EventSource as unknown as { opened: Stream[] }).opened

describe('the session', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    stopChanges()
  })

  it('knows who is signed in, and what they may do', async () => {
    serve({ 'GET /status': { set_up: true, version: '1' }, 'GET /me': ines })
    const s = useSession()
    await s.load()
    expect(s.me).toEqual(ines)
    expect(s.may('operator')).toBe(true)
    expect(s.may('administrator')).toBe(false)
    expect(streams().at(-1)!.url).toBe('/api/v1/events')
  })

  it('knows nobody when the session has ended, and may do nothing', async () => {
    serve({ 'GET /status': { set_up: true, version: '1' }, 'GET /me': new Refusal(401, 'the session has ended: sign in again') })
    const told = vi.fn()
    window.addEventListener('moss-signed-out', told)
    const s = useSession()
    await s.load()
    expect(s.me).toBeUndefined()
    expect(s.may('operator')).toBe(false)
    expect(told).toHaveBeenCalledOnce()
  })

  it('asks nobody who they are before the service is set up', async () => {
    const service = serve({ 'GET /status': { set_up: false, version: '1' }, 'POST /setup': ines })
    const s = useSession()
    await s.load()
    expect(s.setUp).toBe(false)
    expect(service.asked.map((a) => a.path)).toEqual(['/api/v1/status'])
    await s.makeFirst('CODE', 'ines', 'slow-tides-keep-time')
    expect(s.setUp).toBe(true)
    expect(service.sent().at(-1)!.body).toEqual({ code: 'CODE', name: 'ines', password: 'slow-tides-keep-time' })
  })

  it('is over for this console when signing out does not arrive', async () => {
    const service = serve({ 'POST /sessions': ines })
    const s = useSession()
    await s.signIn('ines', 'slow-tides-keep-time')
    const stream = streams().at(-1)!
    service.leave()
    await s.signOut()
    expect(s.me).toBeUndefined()
    expect(stream.closed).toBe(true)
  })

  it('listens once, tells when the line is down, and lets go of a page that is left', async () => {
    const before = streams().length
    startChanges()
    startChanges()
    expect(streams()).toHaveLength(before + 1)
    const stream = streams().at(-1)!
    stream.onopen!()
    expect(live.value).toBe(true)
    stream.onerror!()
    expect(live.value).toBe(false)
    window.dispatchEvent(new Event('pagehide'))
    expect(stream.closed).toBe(true)
    window.dispatchEvent(new Event('pageshow'))
    expect(streams()).toHaveLength(before + 2)
    stopChanges()
    window.dispatchEvent(new Event('pageshow'))
    expect(streams(), 'nobody listens after signing out').toHaveLength(before + 2)
  })
})

describe('answers', () => {
  it('are problems in the words of the service, with every field', async () => {
    serve({ 'GET /me': new Refusal(422, 'the request is not as the description says', ['expected length >= 1', 'a number is expected']) })
    const failed = await data(api.GET('/api/v1/me')).catch((e: unknown) => e as Problem)
    expect(failed).toBeInstanceOf(Problem)
    expect((failed as Problem).message).toBe('the request is not as the description says: expected length >= 1; a number is expected')
    expect((failed as Problem).status).toBe(422)
  })

  it('that do not come are told as that', async () => {
    serve({}).leave()
    const failed = (await data(api.GET('/api/v1/me')).catch((e: unknown) => e)) as Problem
    expect(failed.message).toBe('The service does not answer. Is it running?')
    expect(failed.status).toBe(0)
  })
})
