// @vitest-environment jsdom
import { beforeEach, expect, it, vi } from 'vitest'

const went = vi.hoisted(() => [] as string[])
vi.mock('../router', () => ({ goto: (address: string) => went.push(address) }))
import { help, onKey } from './keys.svelte'
import { session } from './session.svelte'

beforeEach(() => {
  went.length = 0
  help.open = false
  session.who = { keys_on: true } as never
  document.body.innerHTML = `
    <input id="typing"><input data-find id="find">
    <button data-key="t" id="test">Test now</button><button data-key="n" disabled>New</button>
    <table><tbody><tr data-row><td><a href="/1" id="one">one</a>
    <a href="/1b">b</a></td></tr>
    <tr data-row><td><a href="/2" id="two">two</a></td></tr></tbody></table>`
  document.onkeydown = onKey
})
const press = (key: string, on: Element = document.body, more: KeyboardEventInit = {}) => {
  const event = new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true, ...more })
  on.dispatchEvent(event)
  return event.defaultPrevented
}
const at = () => document.activeElement?.id

it('goes to a section by g and its letter', () => {
  press('g')
  expect(press('c')).toBe(true)
  expect(went).toEqual(['/connections'])
  press('g')
  press('x')
  expect(went).toEqual(['/connections'])
})
it('moves through the rows of a list, one link for each', () => {
  press('j')
  expect(at()).toBe('one')
  press('j')
  expect(at()).toBe('two')
  press('j')
  expect(at()).toBe('two')
  press('k')
  expect(at()).toBe('one')
})
it('presses the button that bears a letter, unless it cannot be pressed', () => {
  let pressed = 0
  document.getElementById('test')!.onclick = () => pressed++
  expect(press('t')).toBe(true)
  expect(press('n')).toBe(false)
  expect(pressed).toBe(1)
})
it('finds and helps', () => {
  press('/')
  expect(at()).toBe('find')
  press('?')
  expect(help.open).toBe(true)
})
it('is quiet while one types, with other keys held, and where a person has switched it off', () => {
  expect(press('?', document.getElementById('typing')!)).toBe(false)
  expect(press('?', document.body, { ctrlKey: true })).toBe(false)
  session.who = { keys_on: false } as never
  expect(press('?')).toBe(false)
  session.who = null
  expect(press('?')).toBe(false)
  expect(help.open).toBe(false)
})
