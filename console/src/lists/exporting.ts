import { ref } from 'vue'
import type { ListQuery, Page } from '../api/client'

/** Rows that one export holds at most: a browser keeps them in memory. */
export const mostRows = 200_000

/** A cell as RFC 4180 writes it. What a spreadsheet would take for a formula is kept from being one. */
export function cell(value: unknown): string {
  let text = value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value)
  if (typeof value === 'string' && /^[=+\-@\t\r]/.test(text)) text = `'${text}`
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
}

/** Lines of a table with a header of all fields that any row has. */
export function table(rows: object[]): string {
  const fields: string[] = []
  const seen = new Set<string>()
  for (const row of rows)
    for (const field of Object.keys(row))
      if (!seen.has(field)) {
        seen.add(field)
        fields.push(field)
      }
  return (
    [fields.join(','), ...rows.map((row) => fields.map((f) => cell((row as Record<string, unknown>)[f])).join(','))].join('\r\n') + '\r\n'
  )
}

/** Hands what is at an address that we made to the person as a file. */
export function saveURL(name: string, url: string): void {
  const link = document.createElement('a')
  link.href = url
  link.download = name
  link.click()
}

/** Hands a text to the person as a file. */
export function save(name: string, type: string, text: string): void {
  const url = URL.createObjectURL(new Blob([text], { type }))
  saveURL(name, url)
  window.setTimeout(() => URL.revokeObjectURL(url), 10_000)
}

/** Fetches all that a list shows by its filters, page by page; it can be stopped. */
export function useExport<T extends object>(fetch: (query: ListQuery) => Promise<Page<T>>) {
  const running = ref(false)
  const read = ref(0)
  const trouble = ref('')
  let stopped = false

  async function run(name: string, format: 'csv' | 'json', query: ListQuery): Promise<void> {
    running.value = true
    stopped = false
    read.value = 0
    trouble.value = ''
    const rows: T[] = []
    try {
      let cursor: string | undefined
      do {
        const page = await fetch({ ...query, limit: 1000, cursor })
        rows.push(...page.items)
        read.value = rows.length
        cursor = page.next
      } while (cursor && !stopped && rows.length < mostRows)
      if (stopped) return
      if (cursor) trouble.value = String(mostRows)
      if (format === 'csv') save(`${name}.csv`, 'text/csv;charset=utf-8', table(rows))
      else save(`${name}.json`, 'application/json', JSON.stringify(rows, null, 2) + '\n')
    } finally {
      running.value = false
    }
  }

  return { running, read, trouble, run, stop: () => (stopped = true) }
}
