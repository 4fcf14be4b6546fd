import { SvelteSet } from 'svelte/reactivity'
import type { Schemas } from '../api/client'

type Of = Schemas['BulkIn']['of']

/** Rows of a list that are selected for one change of many. */
export interface Choosing {
  readonly of: Of
  /** Whether rows can be selected at present. */
  on: boolean
  /** All that fit the filter are meant, and not only those that were selected. */
  all: boolean
  readonly keys: SvelteSet<string>
  toggle: (key: string) => void
  clear: () => void
}

/** The most rows that are selected one by one. */
export const MOST_CHOSEN = 500

/** Call it while a list's page is made. */
export function choosing(of: Of): Choosing {
  const keys = new SvelteSet<string>()
  const state = $state({ on: false, all: false })
  return {
    of,
    keys,
    get on() {
      return state.on
    },
    set on(on: boolean) {
      state.on = on
      if (!on) this.clear()
    },
    get all() {
      return state.all
    },
    set all(all: boolean) {
      state.all = all
    },
    toggle(key) {
      state.all = false
      if (!keys.delete(key) && keys.size < MOST_CHOSEN) keys.add(key)
    },
    clear() {
      keys.clear()
      state.all = false
    },
  }
}
