import type { Query } from '@tanstack/svelte-query'

/**
 * Milliseconds after which everything that is shown is asked for again, so that no page says what
 * is so no more.
 */
export const AGAIN = 20_000
/**
 * Pages of one list that are asked for again by themselves; anyone who has scrolled further has it
 * refreshed by an act, or by coming back.
 */
const MOST_PAGES = 5

/**
 * When to ask again: the one rule for every list and page. What changes faster says so where it is
 * asked for.
 */
export function again(query: Query<unknown, Error, unknown>): number | false {
  const pages = (query.state.data as { pages?: unknown[] } | undefined)?.pages
  return Array.isArray(pages) && pages.length > MOST_PAGES ? false : AGAIN
}
