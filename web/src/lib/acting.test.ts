import { readdirSync, readFileSync } from 'node:fs'
import { QueryClient } from '@tanstack/svelte-query'
import { beforeEach, describe, expect, it } from 'vitest'
import { Problem } from '../api/client'
import { actsOf } from './acting.svelte'
import { isShown, SHOWN } from './changes'

const KEYS = [
  ['connection', 'cargo'],
  ['connection', 'fuel'],
  ['connections', ''],
  ['today'],
  ['environments'],
  ['owners', ''],
]
let queries: QueryClient
const anew = () =>
  KEYS.filter((key) => queries.getQueryState(key)?.isInvalidated).map((key) => key.join('/'))

beforeEach(() => {
  queries = new QueryClient()
  for (const key of KEYS) queries.setQueryData(key, { version: 1 })
})

describe('an act', () => {
  it('reads anew only what it changed', async () => {
    const acts = actsOf(queries, ['connection'])
    expect(await acts.run(() => Promise.resolve('done'))).toBe('done')
    expect(anew()).toEqual(['connection/cargo', 'connection/fuel', 'connections/', 'today'])
    expect(acts.problem).toBeNull()
  })
  it('puts its answer where the same thing is asked for, and does not ask again', async () => {
    const acts = actsOf(queries, ['connection'])
    await acts.run(() => Promise.resolve({ version: 2 }), ['connection', 'cargo'])
    expect(queries.getQueryData(['connection', 'cargo'])).toEqual({ version: 2 })
    expect(anew()).toEqual(['connection/fuel', 'connections/', 'today'])
  })
  it('keeps a refusal, with what is wrong by field, and reads nothing anew', async () => {
    const acts = actsOf(queries, ['owner'])
    const refused = new Problem(422, 'No.', 'Give a name.', { name: 'Give a name.' })
    expect(await acts.run(() => Promise.reject(refused), ['owners', ''])).toBeUndefined()
    expect([acts.problem, acts.errors, acts.busy]).toEqual([
      refused,
      { name: 'Give a name.' },
      false,
    ])
    expect(anew()).toEqual([])
    await acts.run(() => Promise.resolve(null))
    expect([acts.problem, acts.errors]).toEqual([null, {}])
  })
  it('shows what stands where somebody else was quicker', async () => {
    const acts = actsOf(queries, ['connection'])
    await acts.run(() => Promise.reject(new Problem(412, 'Changed.', 'Look again.')))
    expect(anew()).toContain('connection/cargo')
  })
  it('is busy while it goes on', async () => {
    const acts = actsOf(queries, ['everything'])
    let go: (value: unknown) => void = () => {}
    const running = acts.run(() => new Promise((resolve) => (go = resolve)))
    expect(acts.busy).toBe(true)
    go(null)
    await running
    expect(acts.busy).toBe(false)
    expect(anew()).toHaveLength(KEYS.length)
  })
})

/** What no act of a person changes, or what its page reads anew by itself. */
const STEADY = new Set([
  'asked-to-allow', 'draft', 'find', 'health', 'journal', 'journal-chain', 'safe', 'schemes',
  'settings', 'shipped', 'sign-in',
]) // prettier-ignore

describe('what shows a thing', () => {
  it('knows every query of the pages', () => {
    const known = new Set([...Object.values(SHOWN).flat(), ...STEADY])
    const folder = new URL('..', import.meta.url)
    const files = readdirSync(folder, { recursive: true, encoding: 'utf8' }).filter(
      (file) => /\.(svelte|ts)$/.test(file) && !file.includes('.test.'),
    )
    const asked = files.flatMap((one) =>
      [
        ...readFileSync(new URL(one, folder), 'utf8').matchAll(
          /(?:queryKey: |\(\) => )\['([\w-]+)'/g,
        ),
      ].map((found) => found[1]!),
    )
    expect(asked.length).toBeGreaterThan(50)
    expect(asked.filter((root) => !known.has(root as never))).toEqual([])
  })
  it('leaves out only the very query that has its answer', () => {
    expect(isShown(['client', '1'], ['client'], ['client', '1'])).toBe(false)
    expect(isShown(['client', '2'], ['client'], ['client', '1'])).toBe(true)
    expect(isShown(['client'], ['client'], ['client', '1'])).toBe(true)
    expect(isShown(['environments'], ['client', 'owner'])).toBe(false)
  })
})
