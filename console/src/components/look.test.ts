import { describe, expect, it } from 'vitest'
import { Refusal, serve } from '../testing/service'
import { show } from '../testing/show'
import LookAgain from './LookAgain.vue'
import RotatePanel from './RotatePanel.vue'

const now = 'POST /rotations/3/look'
const line = (result: string, what: string, words = '', system = 'tide1') => ({ result, what, words, system })

describe('a later look', () => {
  it('says when it is due while nothing was looked at', async () => {
    serve({})
    const p = await show(LookAgain, { props: { id: 3, look: { rotation_id: 3, due: '2026-11-28T09:00:00Z', checks: [] } } })
    expect(p.read()).toContain('It is looked at again an hour after its end')
    expect(p.read()).not.toContain('Last ')
  })

  it('shows what was seen, and counts what is not as it was left', async () => {
    serve({})
    const checks = [
      line('failed', '/etc/tide/feed.pw', 'it has again what was replaced'),
      line('failed', 'tidefeed.service', 'down'),
      line('ok', 'still runs', '2 places', ''),
    ]
    const p = await show(LookAgain, { props: { id: 3, look: { rotation_id: 3, looked: '2026-11-28T09:00:00Z', checks } } })
    expect(p.read()).toContain('2 things are not as the rotation left them')
    for (const words of ['tide1: /etc/tide/feed.pw', 'it has again what was replaced', 'still runs', '2 places'])
      expect(p.read()).toContain(words)
    expect(p.read()).not.toContain('By itself')
  })

  it('looks again when asked, and keeps what was shown when that fails', async () => {
    const service = serve({ [now]: new Refusal(502, 'the directory does not answer') })
    const p = await show(LookAgain, {
      props: { id: 3, look: { rotation_id: 3, looked: '2026-11-28T09:00:00Z', checks: [line('ok', 'still runs')] } },
    })
    await p.button('Look again now').press()
    expect(p.read()).toContain('the directory does not answer')
    expect(p.read()).toContain('still runs')
    service.answer(now, { rotation_id: 3, checks: [] })
    await p.button('Look again now').press()
    expect(p.read()).not.toContain('the directory does not answer')
    expect(service.asked).toHaveLength(2)
  })
})

describe('programs that accept tickets', () => {
  const rehearse = 'POST /credentials/7/rehearsals'
  const rehearsal = (verdict: string, notes: { kind: string; text: string }[]) => ({
    interruption: 'none',
    steps: [],
    rehearsal: { id: 4, verdict, checks: [], plan: { notes, credential: 'svc-berth' } },
  })

  it('are asked about once a rehearsal has found none, and what is said is part of what is asked', async () => {
    const service = serve({ [rehearse]: rehearsal('failed', [{ kind: 'acceptor', text: 'HTTP/gangway is a name of it' }]) })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    expect(p.read()).not.toContain('Nothing else accepts tickets')
    await p.button('Rehearse').press()
    expect(p.read()).toContain('acceptor: HTTP/gangway is a name of it')
    expect(p.read()).toContain('Nothing else accepts tickets as it, because')
    expect(service.sent()[0]!.body).not.toHaveProperty('no_acceptors')
  })

  it('are not asked about otherwise', async () => {
    serve({ [rehearse]: rehearsal('passed', [{ kind: 'left', text: 'a copy stays' }]) })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    expect(p.read()).not.toContain('Nothing else accepts tickets')
  })
})
