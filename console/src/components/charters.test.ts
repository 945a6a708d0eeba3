import { describe, expect, it } from 'vitest'
import schema from '../../../internal/core/charter/schema.json'
import { nameOf, schemaHelp, withoutEnd } from './charters'

describe('a charter', () => {
  it('is kept under the name that its text says', () => {
    expect(nameOf('# first\ncharter: manifest-import\nlabel: x\n')).toBe('manifest-import')
    expect(nameOf('charter: "a.b"\n')).toBe('a.b')
    expect(nameOf('label: charter: x\n')).toBe('')
    expect(nameOf('')).toBe('')
  })
  it('is explained by its schema, each field once', () => {
    const help = schemaHelp(schema)
    const fields = help.map((h) => h.field)
    expect(fields).toContain('charter')
    expect(fields).toContain('must[].member_of')
    expect(fields).toContain('account.password_expires')
    expect(fields).toContain('groups[].name')
    expect(fields).not.toContain('never[].run')
    expect(new Set(fields).size).toBe(fields.length)
    expect(help.filter((h) => !h.means)).toEqual([])
  })
  it('has texts to paste without the line end', () => expect(withoutEnd('a\nb\n')).toBe('a\nb'))
})
