import { onBeforeUnmount, ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { Problem, type ListQuery, type Page } from '../api/client'

/** What stands in a column decides how wide it is, and whether it may be cut. */
export type Content = 'name' | 'system' | 'time' | 'state' | 'number' | 'word' | 'text' | 'place' | 'acts'

export interface Column {
  key: string
  title: string
  /** The name the service sorts and filters by; none if it cannot. */
  field?: string
  content?: Content
  /** Pixels, where its content is wider than is usual. */
  width?: number
  /** Whole numbers, yes or no, moments: which comparisons make sense. */
  compares?: 'words' | 'number' | 'time' | 'yes'
  /** The values that there are, where they are few. */
  values?: string[]
  /** Shown only when somebody chose it. */
  optional?: boolean
  /** One can filter by it, but it has no column of its own. */
  filterOnly?: boolean
}

/** Pixels of each kind of content; text takes what is left, and at least its minimum. */
export const widths: Record<Content, number> = {
  name: 168,
  system: 134,
  time: 118,
  state: 114,
  number: 112,
  word: 96,
  text: 126,
  place: 190,
  acts: 170,
}

export interface Filter {
  field: string
  operator: string
  value: string
}

export const operators = ['~', '!~', '=', '*=', '!=', '<', '>'] as const
const names: Record<string, string> = {
  '~': 'contains',
  '!~': 'lacks',
  '=': 'is',
  '*=': 'matches',
  '!=': 'isNot',
  '<': 'less',
  '>': 'more',
}

/** The texts of an operator: lists.operator.<name>, or lists.when.<name> for moments. */
export function operatorKey(operator: string, compares?: Column['compares']): string {
  return `lists.${compares === 'time' && (operator === '<' || operator === '>') ? 'when' : 'operator'}.${names[operator] ?? 'is'}`
}

/** Those that make sense for a column. */
export function operatorsOf(column?: Column): readonly string[] {
  switch (column?.compares) {
    case 'yes':
      return ['=']
    case 'time':
      return ['<', '>', '=', '!=']
    case 'number':
      return ['=', '!=', '<', '>']
  }
  return column?.values ? ['=', '!=', '~'] : operators
}

const pattern = /^([a-z_]+)(!~|!=|\*=|~|=|<|>)(.*)$/s

export function readFilter(text: string): Filter | undefined {
  const m = pattern.exec(text)
  return m ? { field: m[1]!, operator: m[2]!, value: m[3]! } : undefined
}

export function writeFilter(f: Filter): string {
  return f.field + f.operator + f.value
}

/** A part of an address that may be there once, several times, or not at all. */
export function several(value: unknown): string[] {
  return (Array.isArray(value) ? value : value === undefined || value === null ? [] : [value]).map(String)
}

/** A list that the service filters, sorts and pages, with its state in the address. */
export function useListing<T>(fetch: (query: ListQuery) => Promise<Page<T>>, size: Ref<number>, always: () => string[] = () => []) {
  const route = useRoute()
  const router = useRouter()
  const items = ref([]) as Ref<T[]>
  const more = ref(false)
  const total = ref(0)
  const next = ref<string>()
  const cursors = ref<string[]>([])
  const loading = ref(true)
  const loaded = ref(false)
  const trouble = ref('')
  let asked = 0

  const filters = (): string[] => several(route.query.f)
  const sort = (): string => several(route.query.sort)[0] ?? ''
  const search = (): string => several(route.query.q)[0] ?? ''
  /** What is asked for, without the place in the list. */
  const query = (): ListQuery => ({ filter: [...always(), ...filters()], sort: sort() || undefined, search: search() || undefined })

  async function load(quietly = false): Promise<void> {
    const mine = ++asked
    loading.value = !quietly
    try {
      const page = await fetch({ ...query(), limit: size.value, cursor: cursors.value.at(-1) })
      if (mine !== asked) return
      items.value = page.items
      total.value = page.total
      more.value = !!page.more
      next.value = page.next
      trouble.value = ''
      loaded.value = true
    } catch (e) {
      if (mine !== asked) return
      trouble.value = e instanceof Problem ? e.message : String(e)
      if (!quietly) items.value = []
    } finally {
      if (mine === asked) loading.value = false
    }
  }

  function change(to: Record<string, string | string[] | undefined>): void {
    void router.replace({ query: { ...route.query, ...to } })
  }

  function forward(): void {
    if (!next.value) return
    cursors.value.push(next.value)
    void load()
  }

  function back(): void {
    cursors.value.pop()
    void load()
  }

  let alive = true
  onBeforeUnmount(() => (alive = false))
  const path = route.path
  watch(
    () => [route.query.f, route.query.sort, route.query.q, size.value, always().join('|')].map(String).join('\n'),
    () => {
      if (!alive || route.path !== path) return
      cursors.value = []
      void load()
    },
    { immediate: true },
  )

  return { items, total, more, next, cursors, loading, loaded, trouble, filters, sort, search, query, load, change, forward, back }
}

export type Listed<T> = ReturnType<typeof useListing<T>>
