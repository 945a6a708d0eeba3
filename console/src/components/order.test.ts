import { describe, expect, it } from 'vitest'
import { chainsAround, layout, type Started } from './order'

const s = (name: string, ...needs: string[]): Started => ({ id: name.length, name, state: 'running', runsAs: '', needs, own: false })

describe('layout', () => {
  it('puts each right of all that it needs, whatever the case of the names', () => {
    const { placed, lines } = layout([
      s('Gate', 'queue', 'Fares'),
      s('Queue', 'Store'),
      s('Fares', 'Store'),
      s('Store'),
      s('Alone', 'NotHere'),
    ])
    expect(Object.fromEntries(placed.map((p) => [p.name, p.layer]))).toEqual({ Gate: 2, Queue: 1, Fares: 1, Store: 0, Alone: 0 })
    expect(lines).toHaveLength(4)
    expect(new Set(placed.map((p) => `${p.layer}/${p.row}`)).size).toBe(placed.length)
  })
  it('ends with circles', () => {
    expect(layout([s('A', 'B'), s('B', 'A')]).placed).toHaveLength(2)
  })
})

describe('chainsAround', () => {
  it('keeps what is needed and what needs it, and nothing else', () => {
    const all = [s('Store'), s('Queue', 'Store'), s('Gate', 'Queue'), s('Fares', 'Store'), s('Spooler', 'Rpc'), s('Rpc')]
    expect(chainsAround(all, (x) => x.name === 'Queue').map((x) => x.name)).toEqual(['Store', 'Queue', 'Gate'])
  })
})
