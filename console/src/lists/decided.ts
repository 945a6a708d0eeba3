import { ref, shallowRef, type Ref, type ShallowRef } from 'vue'

/** What a page needs that lists what people decided once: one is added or changed in a form, or goes. */
export type Decided<T, G> = {
  /** The ref of the list: it is read anew after a change. */
  holds: (list: unknown) => void
  /** What came of the last change, in words. */
  said: Ref<string>
  open: Ref<boolean>
  /** The one in the form; undefined for a new one. */
  of: ShallowRef<T | undefined>
  /** The one that is to go, once somebody says so. */
  going: ShallowRef<G | undefined>
  begin: (one?: T) => void
  done: (words: string) => void
}

export function useDecided<T, G = T>(): Decided<T, G> {
  let table: { reload: () => void } | undefined
  const holds = (list: unknown) => (table = list as typeof table)
  const said = ref('')
  const open = ref(false)
  const of = shallowRef<T>()
  const going = shallowRef<G>()
  const begin = (one?: T) => {
    of.value = one
    open.value = true
  }
  const done = (words: string) => {
    said.value = words
    open.value = false
    going.value = undefined
    table?.reload()
  }
  return { holds, said, open, of, going, begin, done }
}
