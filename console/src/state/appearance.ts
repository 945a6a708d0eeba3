import { computed, ref, watchEffect } from 'vue'
import { colours, hues, themeOf } from '../look/tokens'

export type Shade = 'light' | 'dark' | 'system'

const asked = window.matchMedia?.('(prefers-color-scheme: dark)')
const bySystem = ref(asked?.matches ?? false)
asked?.addEventListener?.('change', (e) => (bySystem.value = e.matches))

function kept(): Shade {
  const text = localStorage.getItem('moss-shade')
  if (text === 'light' || text === 'dark' || text === 'system') return text
  return 'system'
}

/** Light, dark, or as the machine is set. Kept in the browser: it is needed before anybody has signed in. */
export const shade = ref<Shade>(kept())
export const dark = computed(() => (shade.value === 'system' ? bySystem.value : shade.value === 'dark'))

export function setShade(to: Shade): void {
  shade.value = to
  localStorage.setItem('moss-shade', to)
}

/** Whether tables are close together. */
export const dense = ref(localStorage.getItem('moss-dense') === 'yes')
export function setDense(to: boolean): void {
  dense.value = to
  localStorage.setItem('moss-dense', to ? 'yes' : 'no')
}

/** The colours of now, for what we draw ourselves. */
export const palette = computed(() => colours[dark.value ? 'dark' : 'light'])

export const series = computed(() => hues[dark.value ? 'dark' : 'light'])

const kebab = (name: string): string => name.replace(/[A-Z]/g, (letter) => '-' + letter.toLowerCase())
watchEffect(() => {
  const root = document.documentElement
  root.dataset.theme = dark.value ? 'dark' : 'light'
  for (const [name, colour] of Object.entries(palette.value)) root.style.setProperty(`--${kebab(name)}`, colour)
})

export const appearance = computed(() => themeOf(dark.value, dense.value))
