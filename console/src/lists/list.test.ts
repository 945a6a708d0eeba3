import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import { startChanges } from '../api/changes'
import { Problem, type ListQuery, type Page } from '../api/client'
import { show } from '../testing/show'
import { readFilter, writeFilter, type Column } from './listing'
import ListPage from './ListPage.vue'

interface Row {
  id: number
  name: string
}

const columns: Column[] = [
  { key: 'name', title: 'Name', field: 'name' },
  { key: 'id', title: 'Number', field: 'id', compares: 'number' },
  { key: 'note', title: 'Note' },
]

/** A service with so many rows. */
function rows(count: number) {
  const asked: ListQuery[] = []
  const fetch = (query: ListQuery) => {
    asked.push(query)
    const from = Number(query.cursor ?? 0)
    const items: Row[] = []
    for (let i = from; i < Math.min(from + (query.limit ?? 50), count); i++) items.push({ id: i, name: `svc-${i}` })
    const end = from + items.length
    return Promise.resolve({ items, total: Math.min(count, 1000), more: count > 1000, next: end < count ? String(end) : undefined })
  }
  return { asked, fetch }
}

type Fetch = (query: ListQuery) => Promise<Page<Row>>

function list(count: number, at = '/', fetch: Fetch = rows(count).fetch) {
  return show(ListPage, {
    props: { name: 'accounts', label: 'Accounts', columns, fetch, rowKey: (r: Row) => r.id, empty: 'Nothing yet: run a survey.', size: 10 },
    at,
  })
}

describe('a list', () => {
  it('shows a page, and says how many there are', async () => {
    const l = await list(25)
    expect(l.page.findAll('tbody tr.ant-table-row')).toHaveLength(10)
    expect(l.read()).toContain('1–10 of 25')
    expect(l.button('Previous').off).toBe(true)
    await l.button('Next').press()
    expect(l.read()).toContain('11–20 of 25')
    await l.button('Next').press()
    expect(l.page.findAll('tbody tr.ant-table-row')).toHaveLength(5)
    expect(l.button('Next').off).toBe(true)
    await l.button('Previous').press()
    expect(l.read()).toContain('11–20 of 25')
  })

  it('says that there may be more than are counted', async () => {
    expect((await list(5000)).read()).toContain('1–10 of 1,000 or more')
  })

  it('has its state in the address', async () => {
    const service = rows(3)
    const l = await list(3, '/?f=name~svc&f=id>1&sort=-name&q=berth', service.fetch)
    expect(service.asked.at(-1)).toMatchObject({ filter: ['name~svc', 'id>1'], sort: '-name', search: 'berth' })
    expect(l.read()).toContain('Name contains svc')
    expect(l.read()).toContain('Number more than 1')
    expect(l.page.findAll('th')[0]!.attributes('aria-sort')).toBe('descending')
    await l.page.find('[aria-label="Remove the filter Name contains svc"]').trigger('keydown.enter')
    await flushPromises()
    expect(l.router.currentRoute.value.query.f).toEqual(['id>1'])
    expect(service.asked.at(-1)!.filter).toEqual(['id>1'])
  })

  it('sorts by a column, the other way at the second press, and begins at the first page', async () => {
    const service = rows(30)
    const l = await list(30, '/', service.fetch)
    await l.button('Next').press()
    await l.button('Name').press()
    expect(service.asked.at(-1)).toMatchObject({ sort: 'name', cursor: undefined })
    await l.button('Name ↑').press()
    expect(service.asked.at(-1)).toMatchObject({ sort: '-name', cursor: undefined })
    expect(l.page.findAll('th')[2]!.find('button').exists()).toBe(false)
    await l.button('Name ↓').press()
    expect(service.asked.at(-1)!.sort, 'and not at all at the third').toBeUndefined()
  })

  it('adds a filter, and none without a column or a value', async () => {
    const l = await list(3)
    await l.button('Filter').press()
    expect(l.button('Add').off).toBe(true)
    await l.field('Column to filter by').fill('name')
    await l.field('How to compare').fill('!=')
    await l.field('Value to compare with').fill('a=b')
    await l.button('Add').press()
    expect(l.router.currentRoute.value.query.f).toEqual(['name!=a=b'])
  })

  it('searches after a pause', async () => {
    vi.useFakeTimers()
    try {
      const service = rows(3)
      const l = await list(3, '/', service.fetch)
      const before = service.asked.length
      for (const text of ['b', 'be', 'berth']) await l.field('Search Accounts').fill(text)
      expect(service.asked).toHaveLength(before)
      await vi.advanceTimersByTimeAsync(300)
      await flushPromises()
      expect(service.asked.slice(before).map((q) => q.search)).toEqual(['berth'])
    } finally {
      vi.useRealTimers()
    }
  })

  it('tells an empty estate from a filter that nothing matches', async () => {
    expect((await list(0)).read()).toContain('Nothing yet: run a survey.')
    expect((await list(0, '/?f=name=x')).read()).toContain('Nothing matches these filters.')
  })

  it('tells what failed, and tries again', async () => {
    let fails = true
    const service = rows(2)
    const l = await list(2, '/', (q) => (fails ? Promise.reject(new Problem('there is no column "x"', 400)) : service.fetch(q)))
    expect(l.read()).toContain('there is no column "x"')
    expect(l.read()).not.toContain('Nothing yet')
    fails = false
    await l.button('Try again').press()
    expect(l.page.findAll('tbody tr.ant-table-row')).toHaveLength(2)
  })

  it('shows the answer to the latest question, in whichever order they come', async () => {
    const waiting: ((page: { items: Row[]; total: number }) => void)[] = []
    const l = await list(0, '/', () => new Promise((answer) => waiting.push(answer)))
    await l.router.replace({ query: { sort: 'name' } })
    await flushPromises()
    waiting[1]!({ items: [{ id: 2, name: 'the later' }], total: 1 })
    await flushPromises()
    waiting[0]!({ items: [{ id: 1, name: 'the earlier' }], total: 1 })
    await flushPromises()
    expect(l.read()).toContain('the later')
    expect(l.read()).not.toContain('the earlier')
  })

  it('reads again when something changed, and keeps what is shown when that fails', async () => {
    vi.useFakeTimers()
    try {
      startChanges()
      const service = rows(2)
      let fails = false
      const l = await list(2, '/', (q) => (fails ? Promise.reject(new Problem('away', 0)) : service.fetch(q)))
      const before = service.asked.length
      const stream = (EventSource as unknown as { opened: EventTarget[] }).opened.at(-1)!
      for (let i = 0; i < 5; i++) stream.dispatchEvent(new Event('changed'))
      await vi.advanceTimersByTimeAsync(300)
      await flushPromises()
      expect(service.asked.length - before).toBe(1)
      fails = true
      stream.dispatchEvent(new Event('changed'))
      await vi.advanceTimersByTimeAsync(300)
      await flushPromises()
      expect(l.page.findAll('tbody tr.ant-table-row')).toHaveLength(2)
      expect(l.read()).toContain('away')
    } finally {
      vi.useRealTimers()
    }
  })

  it('reads filters as it writes them', () => {
    for (const f of [
      { field: 'name', operator: '=', value: 'a=b' },
      { field: 'name', operator: '!=', value: '' },
      { field: 'place', operator: '*=', value: '/etc/*~x' },
      { field: 'what', operator: '~', value: 'two\nlines' },
      { field: 'what', operator: '!~', value: '<b>' },
      { field: 'id', operator: '>', value: '=1' },
    ])
      expect(readFilter(writeFilter(f)), writeFilter(f)).toEqual(f)
    expect(readFilter('no filter')).toBeUndefined()
  })
})
