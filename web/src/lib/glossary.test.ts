import { readFileSync } from 'node:fs'
import { describe, expect, it } from 'vitest'
import { found, read } from './glossary'

const text = readFileSync(new URL('../../../docs/glossary.md', import.meta.url), 'utf8')
const groups = read(text)

describe('the glossary', () => {
  it('is read whole, in alphabetical order, each term once', () => {
    expect(groups.map((group) => group.title)).toEqual(['Terms of Neat Latch', 'Standard terms'])
    const lines = text.split('\n').filter((line) => line && !line.startsWith('#'))
    const names = groups.map((group) => group.terms.map((term) => term.name))
    expect(names.flat().length).toBe(lines.length)
    expect(new Set(names.flat()).size).toBe(lines.length)
    for (const some of names)
      expect(some).toEqual(
        [...some].sort((a, b) => a.localeCompare(b, 'en', { sensitivity: 'base' })),
      )
  })
  it('has each of our own terms', () => {
    const own = groups[0]!.terms.map((term) => term.name).join(' ')
    for (const term of [
      'pin',
      'shear line',
      'sticking',
      'ladder',
      'rung',
      'draw',
      'relay',
      'handover',
      'intake',
      'trim',
      'round',
      'house authority',
      'journal',
      'wall',
    ])
      // prettier-ignore
      expect(own).toContain(term)
  })
  it('is found by words', () => {
    expect(found(groups, 'pkce').flatMap((group) => group.terms.map((term) => term.name))).toEqual([
      'PKCE',
    ])
    expect(found(groups, 'nothing like it')).toEqual([])
  })
})
