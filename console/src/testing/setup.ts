import { enableAutoUnmount } from '@vue/test-utils'
import { afterEach, vi } from 'vitest'
import { fetchFromService } from './service'

// The client of the API keeps the fetch that was there when it was made.
vi.stubGlobal('fetch', fetchFromService)

/** A stream of events that a test speaks on. */
class Stream extends EventTarget {
  static opened: Stream[] = []
  closed = false
  onopen?: () => void
  onerror?: () => void
  constructor(readonly url: string) {
    super()
    Stream.opened.push(this)
  }
  close(): void {
    this.closed = true
  }
}
vi.stubGlobal('EventSource', Stream)

// What is waited for comes when the machine has time for it; a second, as the library has it, is too short on a busy one.
const waitFor = vi.waitFor.bind(vi)
vi.waitFor = (callback, options) => waitFor(callback, options ?? { timeout: 60_000 })

enableAutoUnmount(afterEach)
