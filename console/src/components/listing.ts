import { onBeforeUnmount, ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { Problem, type ListQuery, type Page } from '../api/client'

export interface Column {
  key: string
  title: string
  /** The name the service sorts and filters by; none if it cannot. */
  field?: string
  width?: string
  mono?: boolean
  /** It may hold long words, which are broken anywhere. */
  long?: boolean
  /** One can filter by it, but it has no column of its own. */
  filterOnly?: boolean
}

export interface Filter {
  field: string
  operator: string
  value: string
}

export const operators = [
  { value: '~', text: 'contains' },
  { value: '!~', text: 'does not contain' },
  { value: '=', text: 'is' },
  { value: '*=', text: 'matches (* and ?)' },
  { value: '!=', text: 'is not' },
  { value: '<', text: 'before / less than' },
  { value: '>', text: 'after / more than' },
]

const pattern = /^([a-z_]+)(!~|!=|\*=|~|=|<|>)(.*)$/s

export function readFilter(text: string): Filter | undefined {
  const m = pattern.exec(text)
  return m ? { field: m[1]!, operator: m[2]!, value: m[3]! } : undefined
}

export function writeFilter(f: Filter): string {
  return f.field + f.operator + f.value
}

function list(value: unknown): string[] {
  return (Array.isArray(value) ? value : value === undefined || value === null ? [] : [value]).map(String)
}

/** A list that the service filters, sorts and pages, with its state in the URL. */
export function useListing<T>(fetch: (query: ListQuery) => Promise<Page<T>>, size = 50) {
  const route = useRoute()
  const router = useRouter()
  const items = ref([]) as Ref<T[]>
  const more = ref(false)
  const total = ref(0)
  const next = ref<string>()
  const cursors = ref<string[]>([])
  const loading = ref(true)
  const trouble = ref('')
  let asked = 0

  const filters = (): string[] => list(route.query.f)
  const sort = (): string => list(route.query.sort)[0] ?? ''
  const search = (): string => list(route.query.q)[0] ?? ''

  async function load(quietly = false): Promise<void> {
    const mine = ++asked
    loading.value = !quietly
    try {
      const page = await fetch({
        filter: filters(),
        sort: sort() || undefined,
        search: search() || undefined,
        limit: size,
        cursor: cursors.value.at(-1),
      })
      if (mine !== asked) return
      items.value = page.items
      total.value = page.total
      more.value = !!page.more
      next.value = page.next
      trouble.value = ''
    } catch (e) {
      if (mine !== asked) return
      trouble.value = e instanceof Problem ? e.message : String(e)
      if (!quietly) items.value = []
    } finally {
      if (mine === asked) loading.value = false
    }
  }

  function change(query: Record<string, string | string[] | undefined>): void {
    void router.replace({ query: { ...route.query, ...query } })
  }

  function sortBy(field: string): void {
    change({ sort: sort() === field ? '-' + field : field })
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
    () => [route.query.f, route.query.sort, route.query.q],
    () => {
      if (!alive || route.path !== path) return
      cursors.value = []
      void load()
    },
    { immediate: true },
  )

  return { items, total, more, next, cursors, loading, trouble, filters, sort, search, load, change, sortBy, forward, back, size }
}
