import { useQueryClient } from '@tanstack/svelte-query'

export interface Acting {
  problem: unknown
  readonly busy: boolean
  run: (call: () => Promise<unknown>) => Promise<void>
}

/** Acts of a page: one at a time, everything read anew afterwards, and a refusal kept to be shown. Call it while a component is made. */
export function acting(): Acting {
  const queries = useQueryClient()
  const state = $state({ problem: null as unknown, busy: false })
  return {
    get problem() {
      return state.problem
    },
    set problem(told: unknown) {
      state.problem = told
    },
    get busy() {
      return state.busy
    },
    async run(call) {
      state.problem = null
      state.busy = true
      try {
        await call()
        await queries.invalidateQueries()
      } catch (error) {
        state.problem = error
      }
      state.busy = false
    },
  }
}
