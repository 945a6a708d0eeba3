import { ref } from 'vue'
import { personal } from './personal'

/** Whether somebody is being shown around, and whether it is still offered. */
export const around = ref(false)

export function useAround() {
  const seen = personal('looked-around', false)
  return {
    seen,
    begin: () => {
      around.value = true
      seen.value = true
    },
  }
}
