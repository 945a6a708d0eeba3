import { onBeforeUnmount, shallowRef, watch, type Ref } from 'vue'
import type { Schemas } from '../api/client'

type Line = Schemas['JournalRecord']

/** The journal of a rotation as it is written. It is listened to while the rotation goes on, and read once when it does not. */
export function useJournal(id: number, goesOn: Ref<boolean>): Ref<Line[]> {
  const lines = shallowRef<Line[]>([])
  const have = new Set<number>()
  let fresh: Line[] = []
  let source: EventSource | undefined
  let timer: number | undefined

  function take(): void {
    timer = undefined
    if (!fresh.length) return
    lines.value = [...lines.value, ...fresh].sort((a, b) => a.seq - b.seq)
    fresh = []
  }
  function close(): void {
    source?.close()
    source = undefined
  }
  function listen(): void {
    close()
    source = new EventSource(`/api/v1/rotations/${id}/events`)
    source.addEventListener('record', (e) => {
      const line = JSON.parse((e as MessageEvent<string>).data) as Line
      if (have.has(line.seq)) return
      have.add(line.seq)
      fresh.push(line)
      // Thousands may come at once: they are shown together.
      timer ??= window.setTimeout(take, 120)
    })
    source.addEventListener('rotation', () => {
      close()
      take()
    })
  }
  listen()
  watch(goesOn, (on) => on && !source && listen())
  const away = (): void => close()
  window.addEventListener('pagehide', away)
  onBeforeUnmount(() => {
    window.removeEventListener('pagehide', away)
    window.clearTimeout(timer)
    close()
  })
  return lines
}
