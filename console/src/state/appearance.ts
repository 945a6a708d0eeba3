import { theme } from 'ant-design-vue'
import { computed, ref, watchEffect } from 'vue'

const stored = localStorage.getItem('moss-dark')
const preferred = window.matchMedia?.('(prefers-color-scheme: dark)').matches ?? false

/** Whether the console is dark. */
export const dark = ref(stored === null ? preferred : stored === 'yes')

watchEffect(() => {
  document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'
})

export function toggleDark(): void {
  dark.value = !dark.value
  localStorage.setItem('moss-dark', dark.value ? 'yes' : 'no')
}

/** Mossy greens; colours chosen for a contrast of at least 4.5 to 1. */
export const appearance = computed(() => ({
  algorithm: dark.value ? [theme.darkAlgorithm, theme.compactAlgorithm] : [theme.defaultAlgorithm, theme.compactAlgorithm],
  token: {
    colorPrimary: dark.value ? '#86ad6c' : '#3c6635',
    colorLink: dark.value ? '#a5c98a' : '#35592f',
    colorBgBase: dark.value ? '#141a13' : '#ffffff',
    colorTextBase: dark.value ? '#e3eadc' : '#1b2419',
    colorTextSecondary: dark.value ? '#b4c0aa' : '#4c5a47',
    colorTextDescription: dark.value ? '#b4c0aa' : '#4c5a47',
    colorTextPlaceholder: dark.value ? '#96a38d' : '#66735f',
    colorTextTertiary: dark.value ? '#a9b5a0' : '#566350',
    colorSuccess: dark.value ? '#86ad6c' : '#3c6635',
    colorWarning: dark.value ? '#d6b25e' : '#8a6100',
    colorTextLightSolid: dark.value ? '#0f150d' : '#ffffff',
    colorError: dark.value ? '#ffc4b6' : '#a8321f',
    borderRadius: 5,
    fontSize: 14,
    motion: false,
  },
}))
