import { describe, expect, it } from 'vitest'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import CredentialCustody from './CredentialCustody.vue'

const password = { id: 7, kind: 'password', name: 'dir/svc-berth', state: 'known', account_id: 3, locations: 2, words: '' }
const kept = {
  ...password,
  state: 'custody',
  taken: '2026-11-01T08:00:00Z',
  taken_by: 'ines',
  verified: '2026-11-27T08:00:00Z',
  verdict: 'accepted',
  words: 'signed in',
}
const key = { ...password, id: 9, kind: 'ssh-key', name: 'tide key' }
const custody = 'POST /credentials/7/custody'

describe('custody', () => {
  it('takes a known value, which stays nowhere afterwards', async () => {
    const service = serve({ [custody]: { credential: kept } })
    const p = await show(CredentialCustody, { props: { credential: password } })
    expect(p.read()).toContain('Not in custody')
    await p.button('Take into custody').press()
    await p.field('Known password').fill('Berth-Passw0rd-1')
    await p.button('Take and verify').press()
    expect(service.asked).toHaveLength(1)
    expect(service.asked[0]).toMatchObject({ method: 'POST', path: '/api/v1/credentials/7/custody', body: { value: 'Berth-Passw0rd-1' } })
    expect(service.asked[0]!.headers.get('X-Moss-Console')).toBe('1')
    expect(p.read()).toContain('In custody: the authority accepted the value just now.')
    expect(p.page.emitted('changed')).toHaveLength(1)
    expect(p.page.html()).not.toContain('Berth-Passw0rd-1')
    await p.button('Take into custody').press()
    expect(p.field('Known password').value()).toBe('')
  })

  it('says what the system said when a value is refused, and forgets it', async () => {
    serve({ [custody]: new Refusal(409, 'dir refused the value: invalid credentials') })
    const p = await show(CredentialCustody, { props: { credential: password } })
    await p.button('Take into custody').press()
    await p.field('Known password').fill('wrong-one')
    await p.button('Take and verify').press()
    expect(p.read()).toContain('dir refused the value: invalid credentials')
    expect(p.field('Known password').value()).toBe('')
  })

  it('asks for a reason before it resets, and before it releases', async () => {
    const service = serve({ [custody]: { credential: kept }, 'POST /credentials/7/custody/release': { credential: password } })
    const p = await show(CredentialCustody, { props: { credential: kept } })
    await p.button('Reset').press()
    expect(p.read()).toContain('Whatever still holds the old one breaks at its next sign-in.')
    await p.button('Reset it').press()
    expect(service.asked, 'a reason is required').toHaveLength(0)
    await p.field('Reason').fill('it leaked')
    await p.button('Reset it').press()
    expect(service.asked[0]!.body).toEqual({ reset: true, reason: 'it leaked' })
    await p.button('Release').press()
    expect(p.read()).toContain('Nobody here will know the password any more.')
    await p.field('Reason').fill('moved away')
    await p.button('Release it').press()
    expect(service.asked[1]).toMatchObject({ path: '/api/v1/credentials/7/custody/release', body: { reason: 'moved away' } })
  })

  it('tells a verification that was refused from one that could not be made', async () => {
    const verify = 'POST /credentials/7/custody/verify'
    const service = serve({ [verify]: { accepted: false, words: 'wrong password' } })
    const p = await show(CredentialCustody, { props: { credential: kept } })
    await p.button('Verify now').press()
    expect(p.read()).toContain('Refused: wrong password')
    service.answer(verify, new Refusal(502, 'dir: connect: no answer'))
    await p.button('Verify now').press()
    expect(p.read()).toContain('dir: connect: no answer')
    service.leave()
    await p.button('Verify now').press()
    expect(p.read()).toContain('The service does not answer. Is it running?')
  })

  it('reads a key where a file holds it, and asks for its private half otherwise', async () => {
    const service = serve({ 'POST /credentials/9/custody': { credential: { ...key, state: 'custody', words: 'opens 3 accounts' } } })
    const p = await show(CredentialCustody, { props: { credential: key } })
    await p.button('Take into custody').press()
    expect(service.asked[0]!.body).toEqual({})
    expect(p.read()).toContain('In custody: opens 3 accounts.')
    const alone = await show(CredentialCustody, { props: { credential: { ...key, locations: 0 } } })
    expect(alone.read()).toContain('paste its private half')
    expect(alone.button('Take into custody').there).toBe(false)
    await alone.button('Paste the private half').press()
    expect(alone.field('Private key in PEM').there).toBe(true)
  })

  it('notes the password of an account that nobody noted yet', async () => {
    const service = serve({ 'POST /credentials': { credential: { ...password, id: 7 } }, [custody]: { credential: kept } })
    const p = await show(CredentialCustody, { props: { account: 3 } })
    await p.button('Take into custody').press()
    await p.field('Known password').fill('x'.repeat(20))
    await p.button('Take and verify').press()
    expect(service.asked.map((a) => `${a.method} ${a.path}`)).toEqual(['POST /api/v1/credentials', 'POST /api/v1/credentials/7/custody'])
    expect(service.asked[0]!.body).toEqual({ account: 3, kind: 'password' })
  })

  it('offers nothing to who may do nothing', async () => {
    serve({})
    const p = await show(CredentialCustody, { props: { credential: kept }, roles: ['viewer', 'auditor'] })
    expect(p.page.findAll('button')).toHaveLength(0)
    expect(p.read()).toContain('In custody since')
  })
})
