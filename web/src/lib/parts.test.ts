// @vitest-environment jsdom
import { flushSync, mount, unmount, type Component } from 'svelte'
import { afterEach, describe, expect, it } from 'vitest'
import type { PinOut, Test } from '../api/client'
import ShearLine from '../views/connections/ShearLine.svelte'
import Ladder from './Ladder.svelte'
import { session } from './session.svelte'

let shown: Record<string, unknown> | null = null
// eslint-disable-next-line @typescript-eslint/no-explicit-any
const show = (part: Component<any>, props: Record<string, unknown>): HTMLElement => {
  shown = mount(part, { target: document.body, props })
  flushSync()
  return document.body
}
afterEach(async () => {
  if (shown) await unmount(shown)
  document.body.innerHTML = ''
})
const texts = (of: HTMLElement, what: string) =>
  [...of.querySelectorAll(what)].map((element) => element.textContent?.replace(/\s+/g, ' ').trim())

const pin = (key: string, fit: string, more: Partial<PinOut> = {}): PinOut =>
  ({
    key,
    label: key,
    fit,
    provider: 'theirs',
    caller: 'ours',
    provider_marked: [],
    caller_marked: [],
    why: `why ${key}`,
    acts: [],
    ...more,
  }) as PinOut
const ACT = { key: 'sign_in', label: 'Sign in again', value: '' }

describe('the shear line', () => {
  it('says of each pin how it fits, and why only where it does not', () => {
    const pins = [
      pin('scopes', 'fits'),
      pin('secret', 'differs'),
      pin('route', 'not_asked'),
      pin('consent', 'missing'),
    ]
    const page = show(ShearLine, { pins, act: () => {}, busy: false })
    const rows = [...page.querySelectorAll('li')].map(
      ({ dataset }) => `${dataset.pin} ${dataset.fit}`,
    )
    expect(rows).toEqual([
      'scopes fits', 'secret differs', 'route not_asked', 'consent missing',
    ]) // prettier-ignore
    expect(texts(page, 'li p')).toEqual(['why secret', 'why consent'])
    const drawn = [...page.querySelectorAll('svg')]
    expect(drawn.map((element) => element.getAttribute('aria-label'))).toEqual([
      'scopes fits', 'secret differs', 'route is not asked for', 'consent is missing',
    ]) // prettier-ignore
    expect(page.querySelector('[data-pin=secret] svg path')).not.toBeNull() // only what differs
    expect(page.querySelectorAll('svg path')).toHaveLength(1)
  })
  it('says once what is the same of many pins that nobody has proven', () => {
    const pins = ['a', 'b', 'c'].map((key) =>
      pin(key, 'not_proven', { why: 'Nobody has tried it yet.' }),
    )
    expect(texts(show(ShearLine, { pins, act: () => {}, busy: false }), 'li p')).toEqual([
      'Nobody has tried it yet.',
    ])
  })
  it('offers the acts that the person may do', () => {
    const acts = [
      ACT,
      { key: 'put_secret', label: 'Put in the secret', value: '' },
      { key: 'open_client', label: 'Open the client', value: '' },
    ]
    const pressed: string[] = []
    session.who = { may: ['look', 'test'] } as never
    const page = show(ShearLine, {
      pins: [pin('secret', 'differs', { acts } as never)],
      act: (of: PinOut, what: typeof ACT) => pressed.push(`${of.key} ${what.key}`),
      busy: false,
    })
    expect(texts(page, 'button')).toEqual(['Sign in again', 'Open the client'])
    page.querySelector('button')!.click()
    expect(pressed).toEqual(['secret sign_in'])
  })
})

const rung = (name: string, passed: boolean, more = {}) => ({
  rung: name,
  passed,
  skipped: false,
  says: `said ${name}`,
  ms: 12,
  tries: 1,
  exchanges: [],
  ...more,
})
const test = (state: string, rungs: unknown[]): Test => ({ state, rungs }) as unknown as Test

describe('the ladder', () => {
  it('shows what passed, what failed, and that the rest was not tried', () => {
    const page = show(Ladder, {
      test: test('done', [
        rung('find', true),
        rung('reach', true, { tries: 3 }),
        rung('secure', false),
      ]),
    })
    const rows = texts(page, 'li')
    expect(rows).toHaveLength(6)
    expect(rows[0]).toContain('✓')
    expect(rows[1]).toContain('(3 tries)')
    expect(rows[2]).toContain('✕')
    expect(rows.slice(3).every((row) => row!.includes('not tried'))).toBe(true)
  })
  it('tells a rung that had nothing to try from one that passed', () => {
    const page = show(Ladder, { test: test('done', [rung('find', true, { skipped: true })]) })
    expect(texts(page, 'li')[0]).toContain('nothing to try')
  })
  it('shows which is tried now, and that it waits for the worker', () => {
    expect(texts(show(Ladder, { test: test('running', [rung('find', true)]) }), 'li')[1]).toContain(
      'trying',
    )
  })
  it('waits for the worker before the first', () => {
    expect(texts(show(Ladder, { test: test('waiting', []) }), 'li')[0]).toContain(
      'waiting for the worker',
    )
  })
  it('shows its rungs without any test', () => {
    expect(
      texts(show(Ladder, { test: null }), 'li').every((element) => element!.includes('not tried')),
    ).toBe(true)
  })
})
