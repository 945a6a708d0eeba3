import { describe, expect, it } from 'vitest'
import { reloading } from './reloading'

describe('parts of a page that cannot be loaded', () => {
  it('have it loaded anew, once in half a minute at most', () => {
    const kept = new Map<string, string>()
    const store = { getItem: (k: string) => kept.get(k) ?? null, setItem: (k: string, v: string) => void kept.set(k, v) }
    let reloads = 0
    const at = (now: number) => {
      const event = new Event('vite:preloadError', { cancelable: true })
      reloading(event, now, store, () => void reloads++)
      return event.defaultPrevented
    }
    expect(at(1_000_000)).toBe(true)
    expect(at(1_010_000), 'the second time it is told').toBe(false)
    expect(reloads).toBe(1)
    expect(at(1_031_000)).toBe(true)
    expect(reloads).toBe(2)
  })
})
