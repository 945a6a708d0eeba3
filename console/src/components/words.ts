import { t } from '../texts'

/** Nothing was ever said of this moment. */
export function never(text?: string): boolean {
  return !text || text.startsWith('0001')
}

/** A moment as UTC has it. */
export function moment(text?: string): string {
  return never(text) ? '' : text!.slice(0, 16).replace('T', ' ') + 'Z'
}

/** A moment where the reader is. */
export function local(text?: string): string {
  if (never(text)) return ''
  return new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'short' }).format(new Date(text!))
}

export function ago(text: string | undefined, now: number): string {
  if (never(text)) return ''
  const seconds = Math.round((now - Date.parse(text!)) / 1000)
  if (seconds < 0 && seconds > -30) return t('time.now') // clocks differ a little
  const s = Math.abs(seconds)
  const [n, unit] =
    s < 60
      ? [s, 'seconds']
      : s < 5400
        ? [Math.round(s / 60), 'minutes']
        : s < 129600
          ? [Math.round(s / 3600), 'hours']
          : [Math.round(s / 86400), 'days']
  return t(seconds < 0 ? 'time.in' : 'time.ago', { time: t(`time.${unit}`, n as number) })
}

/** How long something takes or took, from milliseconds. */
export function lasting(ms: number): string {
  if (ms < 1000) return t('time.ms', { n: Math.round(ms) })
  if (ms < 90_000) return t('time.s', { n: (ms / 1000).toFixed(1) })
  return t('time.minutes', Math.round(ms / 60_000))
}

export type Tone = 'good' | 'warn' | 'bad' | 'unknown' | 'plain'

const lists: Record<Exclude<Tone, 'plain'>, string> = {
  good: 'ok done accepted active running started ready passed matches yes effective approved here holds taken met open',
  warn: 'incomplete waiting asked away likely start-pending stop-pending skipped warning medium stopped undone later done-with-failures beside interrupted cancelled ambiguous same-value mode-stopped doing undoing locked excess',
  bad: 'failed the-cause down refused high undo-failed undo-incomplete undo-unclear differs gone missing forbidden filtered hangs wrong-answer certificate no-route no-address',
  unknown: 'unchecked unclear unreadable unknown not-known not-proven not-read never not-probed',
}
const tones = new Map<string, Tone>(
  Object.entries(lists).flatMap(([tone, words]) => words.split(' ').map((word) => [word, tone as Tone] as const)),
)

/** How a state is coloured. The word is always shown too. */
export function tone(state: string): Tone {
  return tones.get(state.replaceAll(' ', '-')) ?? 'plain'
}
