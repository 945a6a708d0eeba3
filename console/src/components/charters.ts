import { t } from '../texts'
/** The name that a charter's text gives itself; empty where it does not yet. */
export function nameOf(text: string): string {
  return /^charter:[ \t]*["']?([A-Za-z0-9._-]+)/m.exec(text)?.[1] ?? ''
}

interface Schema {
  description?: string
  $ref?: string
  properties?: Record<string, Schema>
  items?: Schema
  $defs?: Record<string, Schema>
}

/** What may stand in a charter, from its schema: fields with what they mean, those below with their path. */
export function schemaHelp(schema: unknown): { field: string; means: string }[] {
  const root = schema as Schema
  const out: { field: string; means: string }[] = []
  const seen = new Set<string>()
  const resolve = (s: Schema): Schema => {
    const name = s.$ref?.replace('#/$defs/', '')
    return name ? { ...root.$defs?.[name], ...(s.description ? { description: s.description } : {}) } : s
  }
  function walk(fields: Record<string, Schema>, before: string): void {
    for (const [name, raw] of Object.entries(fields)) {
      const s = resolve(raw)
      out.push({ field: before + name, means: s.description ?? '' })
      const below = s.properties ?? (s.items ? resolve(s.items).properties : undefined)
      const of = raw.items?.$ref ?? raw.$ref ?? ''
      if (!below || (of && seen.has(of))) continue // what all lists of things have is told once
      if (of) seen.add(of)
      walk(below, s.items ? `${before}${name}[].` : `${before}${name}.`)
    }
  }
  walk(root.properties ?? {}, '')
  return out
}

/** The texts of a line as one would paste them. */
export function withoutEnd(text?: string): string {
  return (text ?? '').replace(/\n$/, '')
}

/** What an experiment came to, in words. */
export const proofWords = (p: { state: string; verdict?: 'minimal' | 'too-much' | 'too-little' | 'unproven' }): string =>
  p.verdict ? t(`proofs.${p.verdict}`) : p.state

/** And how grave that is. */
export const proofTone = (p: { state: string; verdict?: string }): 'ok' | 'warning' | 'failed' | 'waiting' | 'plain' => {
  if (p.state === 'waits' || p.state === 'running') return 'waiting'
  return ({ minimal: 'ok', 'too-much': 'warning', 'too-little': 'failed' } as const)[p.verdict as 'minimal'] ?? 'plain'
}
