import { flushPromises } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { serve } from '../testing/service'
import { show } from '../testing/show'
import RotatePanel from './RotatePanel.vue'

const rehearse = 'POST /credentials/7/rehearsals'
const answer = {
  interruption: 'none',
  steps: [],
  rehearsal: { id: 4, verdict: 'passed', checks: [], plan: { notes: [], credential: 'svc-berth' } },
}
const label = 'Stop dependents first'

describe('stopping first', () => {
  it('is asked for where it was ticked, and not otherwise', async () => {
    const service = serve({ [rehearse]: answer })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    expect(service.sent()[0]!.body).not.toHaveProperty('stop_first')
    await p.page.find('input[type=checkbox]').setValue(true)
    await p.button('Rehearse').press()
    expect(service.sent()[1]!.body).toHaveProperty('stop_first', true)
  })

  it('starts what was rehearsed only', async () => {
    serve({ [rehearse]: answer })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    await p.button('Rehearse').press()
    expect(p.button('Rotate svc-berth now').there).toBe(true)
    await p.page.find('input[type=checkbox]').setValue(true)
    expect(p.button('Rotate svc-berth now').there).toBe(false)
  })

  it('is offered only where all is undone when a step fails, and restarts are now', async () => {
    const service = serve({ [rehearse]: answer })
    const p = await show(RotatePanel, { props: { credential: 7 } })
    expect(p.read()).toContain(label)
    await p.page.find('input[type=checkbox]').setValue(true)
    p.page.findComponent({ name: 'ASegmented' }).vm.$emit('update:value', 'stop')
    await flushPromises()
    expect(p.read()).not.toContain(label)
    await p.button('Rehearse').press()
    expect(service.sent()[0]!.body).not.toHaveProperty('stop_first')
  })

  it('is not offered for keys, nor where log-ons get what there is', async () => {
    serve({ [rehearse]: answer })
    for (const props of [
      { credential: 7, kind: 'ssh-key' },
      { credential: 7, assign: [3] },
      { credential: 7, repair: true },
    ]) {
      const p = await show(RotatePanel, { props })
      expect(p.read()).not.toContain(label)
    }
  })
})
