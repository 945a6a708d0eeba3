import { ref, type Ref } from 'vue'
import { Problem } from '../api/client'

/** What a person started: which of it runs, and in whose words it failed. */
export function useWork(): { busy: Ref<string>; trouble: Ref<string>; work: (what: string, act: () => Promise<unknown>) => Promise<void> } {
  const busy = ref('')
  const trouble = ref('')
  async function work(what: string, act: () => Promise<unknown>): Promise<void> {
    busy.value = what
    trouble.value = ''
    try {
      await act()
    } catch (e) {
      trouble.value = e instanceof Problem ? e.message : String(e)
    } finally {
      busy.value = ''
    }
  }
  return { busy, trouble, work }
}
