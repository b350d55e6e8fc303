import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, shallowRef, watch, type Ref } from 'vue'

export interface Page<T> {
  items: T[]
  next?: string
}

/** By what a list is sorted: a column, and what it shows of an item. */
export interface Sort<T> {
  by: string
  down: boolean
  of: (item: T) => unknown
}

/** A list, a page of it at a time: the newest first, or sorted. */
export interface Paged<T> {
  trail: Ref<string[]> // cursors of the pages gone through; the last one is shown
  page: Ref<Page<T> | undefined>
  error: Ref<unknown>
  isPending: Ref<boolean>
  refetch: () => Promise<unknown>
  sort: Ref<Sort<T> | undefined>
  partly: Ref<boolean> // only the newest are sorted, for there are more
}

/** How many of the newest are sorted: a longer list is to be narrowed first. */
export const mostSorted = 2000

/** A list that the service pages by cursor, newest first. Where it is sorted, its newest are read and sorted here. */
export function usePages<T>(
  key: string,
  narrow: Ref<unknown>[],
  fetchPage: (cursor: string | undefined, limit: number) => Promise<Page<T>>,
  { again, size = 20 }: { again?: (items: T[]) => boolean; size?: number } = {},
): Paged<T> {
  const trail = ref<string[]>([])
  const sort = shallowRef<Sort<T>>()
  const cursor = computed(() => trail.value.at(-1))
  watch(sort, () => (trail.value = []))
  const pages = useQuery({
    queryKey: [key, ...narrow, cursor],
    enabled: () => !sort.value,
    queryFn: async () => {
      let page = await fetchPage(cursor.value, size)
      while (!page.items.length && page.next) page = await fetchPage(page.next, size) // it was looked for in some, and there are more
      return page
    },
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (again?.(q.state.data?.items ?? []) ? 1000 : false),
  })
  const newest = useQuery({
    queryKey: [key, 'sorted', ...narrow],
    enabled: () => !!sort.value,
    queryFn: async () => {
      const items: T[] = []
      let next: string | undefined
      do {
        const page = await fetchPage(next, 500)
        items.push(...page.items)
        next = page.next
      } while (next && items.length < mostSorted)
      return { items, more: !!next }
    },
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (again?.(q.state.data?.items ?? []) ? 5000 : false),
  })
  const sorted = computed(() => {
    const by = sort.value
    return by && newest.data.value
      ? [...newest.data.value.items].sort((a, b) => compared(by.of(a), by.of(b), by.down))
      : []
  })
  const page = computed<Page<T> | undefined>(() => {
    if (!sort.value || !newest.data.value) return pages.data.value // which stays while the others are read
    const from = Number(cursor.value ?? 0)
    return {
      items: sorted.value.slice(from, from + size),
      next: from + size < sorted.value.length ? String(from + size) : undefined,
    }
  })
  const of = () => (sort.value ? newest : pages)
  return {
    trail,
    page,
    sort,
    refetch: () => of().refetch(),
    error: computed(() => of().error.value),
    isPending: computed(() => of().isPending.value && !page.value),
    partly: computed(() => !!sort.value && !!newest.data.value?.more),
  }
}

const figure = /^-?\d+(\.\d+)?$/

/** compared orders two values, figures by what they are worth; what is blank comes last, whichever way it is sorted. */
export function compared(a: unknown, b: unknown, down: boolean): number {
  const [x, y] = [a, b].map((v) => (v === undefined || v === null ? '' : String(v))) as [string, string]
  if (!x || !y) return x ? -1 : y ? 1 : 0
  const d =
    figure.test(x) && figure.test(y)
      ? Number(x) - Number(y)
      : x.localeCompare(y, 'en', { numeric: true, sensitivity: 'base' })
  return down ? -d : d
}
