import { ref } from 'vue'

/** The time, for "how long ago"; renewed now and then, not each second. */
export const now = ref(Date.now())
setInterval(() => (now.value = Date.now()), 10_000)
