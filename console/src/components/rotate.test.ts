import { flushPromises } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import RotatePanel from './RotatePanel.vue'

function rehearsal(verdict: string, checks = [{ result: 'ok', system: 'dir', what: 'sign in', words: 'accepted' }]) {
  return {
    interruption: 'about 3 seconds on tide1',
    steps: ['seal a new value', 'change it in dir', 'replace it in /etc/tide/feed.env'],
    rehearsal: {
      id: 4,
      verdict,
      checks,
      plan: {
        credential: 'svc-berth',
        notes: [
          { kind: 'left', text: 'a copy stays' },
          { kind: 'info', text: 'two files only mention it' },
        ],
      },
    },
  }
}
const rehearse = 'POST /credentials/7/rehearsals'
const rotate = 'POST /credentials/7/rotations'

describe('rotating', () => {
  it('rehearses, shows what will happen, and starts what was rehearsed', async () => {
    const service = serve({ [rehearse]: rehearsal('passed'), [rotate]: { rotation: { id: 12 } } })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    expect(p.button('Rotate svc-berth now').there).toBe(false)
    await p.button('Rehearse').press()
    expect(service.sent()[0]!.body).toEqual({ on_failure: 'undo', restart: 'now', repair: false, start: false })
    for (const words of ['about 3 seconds on tide1', 'replace it in /etc/tide/feed.env', 'left: a copy stays', 'two files only mention it'])
      expect(p.read()).toContain(words)
    expect(p.read()).not.toContain('info:')
    expect(p.button('Rotate svc-berth now').off, 'a reason is missing').toBe(true)
    await p.field('Reason of the rotation').fill('due')
    await p.button('Rotate svc-berth now').press()
    expect(service.sent()[1]).toMatchObject({
      path: '/api/v1/credentials/7/rotations',
      body: { on_failure: 'undo', restart: 'now', reason: 'due' },
    })
    expect(p.router.currentRoute.value.path).toBe('/rotations/12')
  })

  it('starts once, however often the answer is lost', async () => {
    const service = serve({ [rehearse]: rehearsal('passed'), [rotate]: new Refusal(504, 'it took too long') })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    await p.field('Reason of the rotation').fill('due')
    await p.button('Rotate svc-berth now').press()
    expect(p.read()).toContain('it took too long')
    service.answer(rotate, { rotation: { id: 12 } })
    await p.button('Rotate svc-berth now').press()
    const keys = service.asked.filter((a) => a.path.endsWith('/rotations')).map((a) => a.headers.get('Idempotency-Key'))
    expect(keys).toHaveLength(2)
    expect(keys[0]).toBeTruthy()
    expect(keys[1]).toBe(keys[0])
    await p.field('Reason of the rotation').fill('due, and more')
    await p.button('Rotate svc-berth now').press()
    expect(service.asked.at(-1)!.headers.get('Idempotency-Key'), 'another request').not.toBe(keys[0])
  })

  it('starts nothing that was not rehearsed as it is', async () => {
    serve({ [rehearse]: rehearsal('passed') })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    expect(p.button('Rotate svc-berth now').there).toBe(true)
    p.page.findComponent({ name: 'ASegmented' }).vm.$emit('update:value', 'stop')
    await flushPromises()
    expect(p.button('Rotate svc-berth now').there, 'another policy is another rotation').toBe(false)
    expect(p.read()).not.toContain('What will happen')
  })

  it('puts what failed first, and offers no start', async () => {
    serve({
      [rehearse]: rehearsal('failed', [
        { result: 'ok', system: 'a', what: 'first', words: '' },
        { result: 'unchecked', system: 'b', what: 'second', words: '' },
        { result: 'failed', system: 'c', what: 'third', words: 'no right' },
        { result: 'warning', system: 'd', what: 'fourth', words: '' },
      ]),
    })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    expect(p.page.findAll('tbody tr.ant-table-row td:nth-child(2)').map((c) => c.text())).toEqual(['c', 'd', 'b', 'a'])
    expect(p.page.findAll('.ant-alert').map((a) => a.text())[0], 'what is not known stands first').toContain('second')
    expect(p.read()).toContain('no right')
    expect(p.button('Rotate svc-berth now').off).toBe(true)
    expect(p.read()).toContain('The rehearsal did not pass.')
  })

  it('gives the current value to chosen dependents, and new keys a type', async () => {
    const service = serve({ [rehearse]: rehearsal('passed') })
    const p = await show(RotatePanel, { props: { credential: 7, assign: [3, 4], verb: 'Assign now', kind: 'ssh-key' } })
    await p.field('New key').fill('ssh-ed25519')
    await p.button('Rehearse').press()
    expect(service.sent()[0]!.body).toMatchObject({ assign: [3, 4], type: 'ssh-ed25519' })
    expect(p.button('Assign now').there).toBe(true)
  })

  it('is not for who may not', async () => {
    serve({})
    const p = await show(RotatePanel, { props: { credential: 7 }, roles: ['viewer'] })
    expect(p.button('Rehearse').off).toBe(true)
  })
})
