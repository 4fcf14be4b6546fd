import { expect, test } from 'vitest'
import { MORE, MORE_LETTER, SECTIONS, sectionOf } from './sections'
import { PAGES } from './roles'

test('every key goes to one place, and each place is a page', () => {
  const all = [...SECTIONS, ...MORE]
  const letters = [...all.map((section) => section.letter), MORE_LETTER]
  expect(new Set(letters).size).toBe(letters.length)
  for (const one of all) expect(PAGES, one.address).toHaveProperty([one.address])
})

test.each([
  ['/', '/'],
  ['/connections/cargo-manifests', '/connections'],
  ['/tests/1', '/connections'],
  ['/clients/1/scopes', '/applications'],
  ['/redirect-uris', '/applications'],
  ['/credentials/house', '/credentials'],
  ['/certificates/1', '/credentials'],
  ['/workloads/1', '/workloads'],
  ['/people/ewan', '/people'],
  ['/inventory/imports/1', '/inventory'],
  ['/me', undefined],
  ['/connectionsx', undefined],
])('%s belongs to %s', (pathname, address) => {
  expect(sectionOf(pathname)).toBe(address)
})
