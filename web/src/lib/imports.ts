import type { Schemas } from '../api/client'
import { grouped } from './words'

export type Import = Schemas['ImportPlanOut']

/** How far an import is, in a few words. */
export function progressOf(plan: Import): string {
  return `${grouped(plan.done)} of ${grouped(plan.total)} applied`
}

/** What became of an import. */
export function stateOf(plan: Import): string {
  if (plan.state === 'storing' || plan.state === 'checking') return 'being prepared'
  if (plan.state === 'applying') return 'being applied'
  const state = plan.state === 'stopped' ? 'stopped' : 'applied'
  return plan.undone ? `${state}, then undone` : state
}

/** What goes behind “n of m applied”. */
export function outcomeOf(plan: Import): string {
  const stopped = plan.state === 'stopped' ? ', then stopped' : ''
  return stopped + (plan.undone ? '; undone since' : '')
}

/** What an import changes, in a few words. */
export function sizeOf(plan: Import): string {
  const [adds, changes, removes] = [plan.adds, plan.changes, plan.removes].map(grouped)
  return plan.state === 'applied'
    ? `${adds} added, ${changes} changed, ${removes} removed`
    : `${adds} to add, ${changes} to change, ${removes} to remove`
}
