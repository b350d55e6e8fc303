import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, type Ref } from 'vue'

export interface Page<T> {
  items: T[]
  next?: string
}

/**
 * A list that the service pages by cursor. The trail is the cursors of the
 * pages gone through; the last one is shown.
 */
export function usePages<T>(key: string, narrow: Ref<unknown>[], fetchPage: (cursor: string | undefined) => Promise<Page<T>>, again?: (items: T[]) => boolean) {
  const trail = ref<string[]>([])
  const cursor = computed(() => trail.value.at(-1))
  const query = useQuery({
    queryKey: [key, ...narrow, cursor],
    queryFn: async () => {
      let page = await fetchPage(cursor.value)
      while (!page.items.length && page.next) page = await fetchPage(page.next) // it was looked for in some, and there are more
      return page
    },
    placeholderData: keepPreviousData,
    refetchInterval: (q) => (again?.(q.state.data?.items ?? []) ? 1000 : false),
  })
  return { trail, page: query.data, error: query.error, isPending: query.isPending, refetch: query.refetch }
}
