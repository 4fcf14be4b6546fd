import { expect, test } from 'vitest'
import { once } from './client'

const key = (headers: Record<string, string>) => headers['Idempotency-Key']

test('the same content has the same key until it was done, other content another', () => {
  const sent = once()
  const first = key(sent.headers({ name: 'a' }))
  expect(key(sent.headers({ name: 'a' }))).toBe(first)
  const other = key(sent.headers({ name: 'b' }))
  expect(other).not.toBe(first)
  sent.over()
  expect(key(sent.headers({ name: 'b' }))).not.toBe(other)
  expect(key(once().headers({ name: 'b' }))).not.toBe(other)
})
