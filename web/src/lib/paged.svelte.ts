import { createInfiniteQuery } from '@tanstack/svelte-query'

interface Page<Row> {
  items: Row[]
  next: string | null
}
interface Paged<Row> {
  /** The query, as lists and their parts want it. */
  readonly query: ReturnType<typeof createInfiniteQuery<Page<Row>>>
  readonly rows: Row[]
}

/**
 * A list that comes a page at a time. `ask` fetches the page after a cursor; `every`: asked again
 * after so many milliseconds.
 */
export function paged<Row>(
  key: () => readonly unknown[],
  ask: (cursor: string | undefined) => Promise<Page<Row>>,
  more: { every?: number; enabled?: () => boolean } = {},
): Paged<Row> {
  const query = createInfiniteQuery(() => ({
    queryKey: key(),
    queryFn: ({ pageParam }: { pageParam: string }) => ask(pageParam || undefined),
    initialPageParam: '',
    getNextPageParam: (last: Page<Row>) => last.next ?? undefined,
    placeholderData: (before: unknown) => before as never,
    ...(more.every ? { refetchInterval: more.every } : {}),
    enabled: more.enabled?.() ?? true,
  }))
  const rows = $derived(query.data?.pages.flatMap((entry) => entry.items) ?? [])
  return {
    get query() {
      return query as unknown as Paged<Row>['query']
    },
    get rows() {
      return rows
    },
  }
}
