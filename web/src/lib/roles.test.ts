import { readFileSync } from 'node:fs'
import { describe, expect, it } from 'vitest'
import { mayNot, onPage, PAGES } from './roles'

describe('what a role may not do on a page', () => {
  it('knows every page of the router, and no other', () => {
    const router = readFileSync(new URL('../router.ts', import.meta.url), 'utf8')
    const named = [...router.matchAll(/^ {2}'(\/[^']*)':/gm)].map((match) => match[1])
    expect(Object.keys(PAGES).sort()).toEqual(named.sort())
  })
  it('finds a page by its address, the plain before the named', () => {
    expect(onPage('/connections/new')).toBe(PAGES['/connections/new'])
    expect(onPage('/connections/sandbox/cargo')).toBe(PAGES['/connections/:environment/:name'])
    expect(onPage('/connections/sandbox/cargo/')).toBe(PAGES['/connections/:environment/:name'])
    expect(onPage('/nothing/like/it').acts).toEqual({})
  })
  it('says what is missing, and who may', () => {
    const page = PAGES['/connections/:environment/:name']!
    expect(mayNot(page, ['look'])).toBe(
      'Your role does not let you test it or sign in (operators and administrators), ' +
        'or change either half (administrators).',
    )
    expect(mayNot(page, ['look', 'test'])).toBe(
      'Your role does not let you change either half (administrators).',
    )
    expect(mayNot(page, ['look', 'test', 'change'])).toBe('')
  })
})
