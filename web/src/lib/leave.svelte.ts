/** Asking for leave before something that is held would go to another server: one dialog for every change, whatever page it is made on. */
import { whenMoving, type Leave, type Move, type Problem } from '../api/client'

export const moving = $state({ moves: [] as Move[], refused: null as Problem | null, busy: false })
let settle: ((leave: Leave | null) => void) | null = null

whenMoving(
  (moves, refused) =>
    new Promise((resolve) => {
      moving.moves = moves
      moving.refused = refused
      moving.busy = false
      settle = resolve
    }),
  () => {
    moving.moves = []
    moving.refused = null
    moving.busy = false
  },
)

/** The answer of whoever was asked; `null`: nothing is to be changed. */
export function answer(leave: Leave | null): void {
  moving.busy = leave !== null
  settle?.(leave)
  settle = null
}
