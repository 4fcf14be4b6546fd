/** Single keys. They are off while one types, and a person can switch them off for good. */
import { goto } from '../router'
import { MORE, MORE_LETTER, SECTIONS } from './sections'
import { may, session } from './session.svelte'

export const help = $state({ open: false })
export const more = $state({ open: false })

let waiting = 0
const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))

export function onKey(event: KeyboardEvent): void {
  if (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    !session.who?.keys_on ||
    typing(event.target)
  )
    return
  const key = event.key
  if (Date.now() - waiting < 1500) {
    waiting = 0
    if (key.toLowerCase() === MORE_LETTER) return act(event, () => (more.open = true))
    const to = [...SECTIONS, ...MORE].find((section) => section.letter === key.toLowerCase())
    if (to && (!to.need || may(to.need))) return act(event, () => goto(to.address))
  }
  if (key === 'g') waiting = Date.now()
  else if (key === '?') act(event, () => (help.open = !help.open))
  else if (key === '/')
    act(event, () => document.querySelector<HTMLElement>('[data-find]')?.focus())
  else if (key === 'j' || key === 'k') act(event, () => step(key === 'j' ? 1 : -1))
  else if ('tnei'.includes(key.toLowerCase()) && key.length === 1) {
    const button = document.querySelector<HTMLElement>(
      `[data-key="${key.toLowerCase()}"]:not(:disabled)`,
    )
    if (button) act(event, () => button.click())
  }
}

function act(event: Event, what: () => void): void {
  event.preventDefault()
  what()
}

/** Move through the rows of a list; Enter then opens the link that has the focus. */
function step(by: number): void {
  const rows = [...document.querySelectorAll<HTMLElement>('[data-row] a')].filter(
    (one, place, all) =>
      all.findIndex((other) => other.closest('[data-row]') === one.closest('[data-row]')) === place,
  )
  if (rows.length === 0) return
  const at = rows.findIndex((row) => row === document.activeElement)
  rows[Math.max(0, Math.min(rows.length - 1, at === -1 ? 0 : at + by))]?.focus()
}
