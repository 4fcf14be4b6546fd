import { useQueryClient, type QueryClient } from '@tanstack/svelte-query'
import { Problem } from '../api/client'
import { isShown, type Thing } from './changes'

export interface Acting {
  /** Why the last act was refused; null: it was not. */
  problem: unknown
  /** What is wrong with a form, by its fields. */
  readonly errors: Record<string, string>
  readonly busy: boolean
  /**
   * Do something; answers what it answered, or undefined where it was refused. Where `kept` names a
   * query that
   * asks for the very thing that the act answers, that is not asked for again.
   */
  run: <T>(call: () => Promise<T>, kept?: readonly unknown[]) => Promise<T | undefined>
  /** Read anew what the acts of this part change. */
  read: () => Promise<void>
}

/**
 * Acts of a part of a page: one at a time, what they change read anew afterwards, and a refusal
 * kept to be shown.
 * Call it while a component is made, with what its acts change.
 */
export function acting(...changed: Thing[]): Acting {
  return actsOf(useQueryClient(), changed)
}

/** The same without a component, for tests. */
export function actsOf(queries: QueryClient, changed: readonly Thing[]): Acting {
  const state = $state({ problem: null as unknown, busy: false })
  const read = (kept?: readonly unknown[]): Promise<void> =>
    queries.invalidateQueries({ predicate: (query) => isShown(query.queryKey, changed, kept) })
  return {
    get problem() {
      return state.problem
    },
    set problem(told: unknown) {
      state.problem = told
    },
    get errors() {
      return state.problem instanceof Problem ? state.problem.errors : {}
    },
    get busy() {
      return state.busy
    },
    read: () => read(),
    async run(call, kept) {
      state.problem = null
      state.busy = true
      try {
        const answer = await call()
        if (kept) {
          // One that is still on its way was asked for before.
          await queries.cancelQueries({ queryKey: kept, exact: true })
          queries.setQueryData(kept, answer)
        }
        await read(kept)
        return answer
      } catch (error) {
        state.problem = error
        // Somebody else was quicker: what stands now is shown, and the next act is made on it.
        if (error instanceof Problem && error.status === 412) await read()
        return undefined
      } finally {
        state.busy = false
      }
    },
  }
}
