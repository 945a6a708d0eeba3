import { onBeforeUnmount, onMounted, ref } from 'vue'

/** Whether the stream of changes is connected. */
export const live = ref(false)

let source: EventSource | undefined
const listeners = new Set<() => void>()
let timer: number | undefined

// A page that is left may live on in the browser's cache with its connection,
// and few of those are allowed: let go of it, and take it up when shown again.
let wanted = false
window.addEventListener('pagehide', () => close())
window.addEventListener('pageshow', () => wanted && startChanges())

function close(): void {
  source?.close()
  source = undefined
  live.value = false
}

/** Starts listening. Browsers allow few connections a host: one for all pages. */
export function startChanges(): void {
  wanted = true
  if (source) return
  source = new EventSource('/api/v1/events')
  source.addEventListener('changed', () => {
    live.value = true
    // Many changes in a short time are one reload.
    timer ??= window.setTimeout(() => {
      timer = undefined
      listeners.forEach((listen) => listen())
    }, 250)
  })
  source.onopen = () => (live.value = true)
  source.onerror = () => (live.value = false)
}

export function stopChanges(): void {
  wanted = false
  close()
}

/** Calls reload when something changed, as long as the component is shown. */
export function onChanged(reload: () => void): void {
  onMounted(() => listeners.add(reload))
  onBeforeUnmount(() => listeners.delete(reload))
}
