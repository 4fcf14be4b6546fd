import { expect, test, vi } from 'vitest'
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

test('a list that has not become another is not sent again', async () => {
  const list = '{"items":[],"next":null}'
  const answers = [
    new Response(list, { headers: { ETag: 'W/"a"', 'Content-Type': 'application/json' } }),
    new Response(null, { status: 304 }),
    new Response('{"items":[],"next":"x"}', {
      headers: { ETag: 'W/"b"', 'Content-Type': 'application/json' },
    }),
  ]
  const tags: (string | null)[] = []
  vi.stubGlobal('fetch', (request: Request) => {
    tags.push(request.headers.get('If-None-Match'))
    return Promise.resolve(answers.shift()!)
  })
  vi.resetModules()
  const { api, ok } = await import('./client')
  const ask = () => ok(api.GET('/api/connections', { baseUrl: 'http://127.0.0.1:1' }))
  expect([await ask(), await ask(), await ask()].map((answer) => answer.next)).toEqual([
    null,
    null,
    'x',
  ])
  expect(tags).toEqual([null, 'W/"a"', 'W/"a"'])
  vi.unstubAllGlobals()
})
