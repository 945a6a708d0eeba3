/** Moments are UTC everywhere; the reader sees how long ago, and the moment itself on hover. */
export function moment(text?: string): string {
  if (!text || text.startsWith('0001')) return ''
  return text.slice(0, 16).replace('T', ' ') + 'Z'
}

export function ago(text: string | undefined, now: number): string {
  if (!text || text.startsWith('0001')) return ''
  const seconds = Math.round((now - Date.parse(text)) / 1000)
  if (seconds < 0 && seconds > -30) return 'just now' // clocks differ a little
  const future = seconds < 0
  const s = Math.abs(seconds)
  const [n, unit] =
    s < 60
      ? [s, 's']
      : s < 5400
        ? [Math.round(s / 60), ' min']
        : s < 129600
          ? [Math.round(s / 3600), ' h']
          : [Math.round(s / 86400), ' days']
  return future ? `in ${n}${unit}` : `${n}${unit} ago`
}

export function plural(n: number, one: string, many = one + 's'): string {
  return `${n} ${n === 1 ? one : many}`
}

export type Tone = 'good' | 'warn' | 'bad' | 'plain'

const tones: Record<string, Tone> = {
  ok: 'good',
  done: 'good',
  accepted: 'good',
  active: 'good',
  running: 'good',
  started: 'good',
  ready: 'good',
  passed: 'good',
  matches: 'good',
  yes: 'good',
  effective: 'good',
  approved: 'good',
  here: 'good',
  incomplete: 'warn',
  waiting: 'warn',
  asked: 'warn',
  away: 'warn',
  likely: 'warn',
  'start pending': 'warn',
  'stop pending': 'warn',
  skipped: 'warn',
  unchecked: 'warn',
  warning: 'warn',
  medium: 'warn',
  stopped: 'warn',
  undone: 'warn',
  unclear: 'warn',
  later: 'warn',
  'done-with-failures': 'warn',
  beside: 'warn',
  interrupted: 'warn',
  cancelled: 'warn',
  ambiguous: 'warn',
  'same value': 'warn',
  unreadable: 'warn',
  failed: 'bad',
  'the cause': 'bad',
  down: 'bad',
  refused: 'bad',
  high: 'bad',
  'undo-failed': 'bad',
  'undo-incomplete': 'bad',
  'undo-unclear': 'bad',
  differs: 'bad',
}

/** How a state is coloured. The word is always shown too. */
export function tone(state: string): Tone {
  return tones[state] ?? 'plain'
}
