import { describe, expect, it } from 'vitest'
import en from './en.json'
import managed from './managed.en.json'
import './managed'
import { t } from '.'

const files = import.meta.glob(['../**/*.vue', '../**/*.ts', '!../**/*.test.ts', '!../api/schema.d.ts'], {
  query: '?raw',
  import: 'default',
  eager: true,
}) as Record<string, string>

function keysOf(of: object, under = ''): string[] {
  return Object.entries(of).flatMap(([name, value]) =>
    typeof value === 'string' ? [under + name] : keysOf(value as object, `${under}${name}.`),
  )
}
const keys = new Set(keysOf({ ...en, ...managed }))
const source = Object.values(files).join('\n')
/** Keys as they are written, and the parts of those that are put together from them. */
const written = [...source.matchAll(/'([a-zA-Z]+(?:\.[a-zA-Z0-9_-]+)+)'/g)].map((m) => m[1]!)
const patterns = [...source.matchAll(/`([a-zA-Z]+\.(?:[a-zA-Z.]*\$\{[^`]*?\}[a-zA-Z.]*)+)`/g)].map(
  (m) => new RegExp('^' + m[1]!.replaceAll('.', '\\.').replaceAll(/\$\{.*?\}/g, '.+') + '$'),
)

describe('texts', () => {
  it('are there for every key that is asked for', () => {
    const asked = [...source.matchAll(/\bt\(\s*'([^']+)'/g)].map((m) => m[1]!)
    expect(asked.length).toBeGreaterThan(300)
    expect(asked.filter((key) => !keys.has(key))).toEqual([])
  })
  it('are all used', () => {
    const used = new Set(written)
    expect([...keys].filter((key) => !used.has(key) && !patterns.some((p) => p.test(key)))).toEqual([])
  })
  it('have no singular that reads wrong', () => {
    const never = ['lists.exportCut', 'lists.rows'] // 25 and more
    for (const key of [...keys].filter((k) => !never.includes(k))) {
      const text = t(key, 1)
      expect(text, key).not.toMatch(/\b1 (systems|dependents|accounts|findings|rotations|places|rows|days|hosts|steps)\b/)
    }
  })
  it('say numbers and names where they are given', () => {
    expect(t('n.dependents', 1)).toBe('1 dependent')
    expect(t('n.dependents', 4)).toBe('4 dependents')
    expect(t('run.rotation', { n: 3 })).toBe('Rotation 3 of')
  })
})
