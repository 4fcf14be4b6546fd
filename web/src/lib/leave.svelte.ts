/**
 * Asking for leave before something that is held would go elsewhere: one dialog for every change,
 * whatever page it is made on.
 */
import { whenMoving, type Asked, type Leave } from '../api/client'

const NOTHING: Asked = { title: '', moves: [], keeps: false, refused: null }
export const moving = $state({ asked: NOTHING, busy: false })
let settle: ((leave: Leave | null) => void) | null = null

whenMoving(
  (asked) =>
    new Promise((resolve) => {
      moving.asked = asked
      moving.busy = false
      settle = resolve
    }),
  () => {
    moving.asked = NOTHING
    moving.busy = false
  },
)

/** The answer of anyone who was asked; `null`: nothing is to be changed. */
export function answer(leave: Leave | null): void {
  moving.busy = leave !== null
  settle?.(leave)
  settle = null
}
