import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import { cell, table, useExport } from './exporting'

/** Reads what RFC 4180 describes; it shares nothing with what writes it. */
function read(text: string): string[][] {
  const rows: string[][] = [[]]
  let field = ''
  let quoted = false
  for (let i = 0; i < text.length; i++) {
    const ch = text[i]!
    if (quoted) {
      if (ch === '"' && text[i + 1] === '"') field += text[++i]
      else if (ch === '"') quoted = false
      else field += ch
    } else if (ch === '"') quoted = true
    else if (ch === ',') {
      rows.at(-1)!.push(field)
      field = ''
    } else if (ch === '\r' && text[i + 1] === '\n') {
      rows.at(-1)!.push(field)
      field = ''
      rows.push([])
      i++
    } else field += ch
  }
  return rows.slice(0, -1)
}

describe('an export', () => {
  it('is read back by another reader, whatever stands in it', () => {
    const pieces = ['a', ',', '"', '\r', '\n', 'ü', ';', ' ', "'", '{']
    const random = (n: number) => Array.from({ length: n }, () => pieces[Math.floor(Math.random() * pieces.length)]).join('')
    const rows = Array.from({ length: 200 }, (_, i) => ({ id: i, text: 'x' + random(8), more: i % 3 ? 'y' + random(3) : undefined }))
    const back = read(table(rows))
    expect(back[0]).toEqual(['id', 'text', 'more'])
    expect(back.slice(1)).toEqual(rows.map((r) => [String(r.id), r.text, r.more ?? '']))
  })
  it.each(['=HYPERLINK("x")', '+1', '-1', '@x', '\tx', '\rx'])('keeps a spreadsheet from taking %j for a formula', (text) => {
    expect(read(`${cell(text)}\r\n`)[0]![0]).toBe(`'${text}`)
  })
  it('writes numbers and moments as they are', () => {
    expect([cell(-5), cell(true), cell('2026-11-28T08:00:00Z'), cell(null), cell(['a', 'b'])]).toEqual([
      '-5',
      'true',
      '2026-11-28T08:00:00Z',
      '',
      '"[""a"",""b""]"',
    ])
  })
  it('has every field that any row has', () => {
    expect(table([{ a: 1 }, { b: 2 }])).toBe('a,b\r\n1,\r\n,2\r\n')
  })
  it('fetches page after page, with the filters, and makes one file', async () => {
    const asked: unknown[] = []
    const made = vi.spyOn(URL, 'createObjectURL').mockReturnValue('blob:x')
    const x = useExport((query) => {
      asked.push(query)
      const from = Number(query.cursor ?? 0)
      return Promise.resolve({ items: [{ id: from }, { id: from + 1 }], total: 5, next: from < 4 ? String(from + 2) : undefined })
    })
    await x.run('accounts', 'json', { filter: ['name~svc-'], sort: '-name' })
    expect(asked).toEqual([undefined, '2', '4'].map((cursor) => ({ filter: ['name~svc-'], sort: '-name', limit: 1000, cursor })))
    const text = await (made.mock.calls[0]![0] as Blob).text()
    expect(JSON.parse(text)).toEqual([0, 1, 2, 3, 4, 5].map((id) => ({ id })))
    made.mockRestore()
  })
  it('makes none when it was stopped', async () => {
    const made = vi.spyOn(URL, 'createObjectURL').mockReturnValue('blob:x')
    let go: (page: { items: object[]; total: number; next?: string }) => void = () => undefined
    const x = useExport(() => new Promise<{ items: object[]; total: number; next?: string }>((r) => (go = r)))
    const run = x.run('accounts', 'csv', {})
    x.stop()
    go({ items: [{ id: 1 }], total: 2, next: '1' })
    await run
    await flushPromises()
    expect(made).not.toHaveBeenCalled()
    expect(x.running.value).toBe(false)
    made.mockRestore()
  })
})
