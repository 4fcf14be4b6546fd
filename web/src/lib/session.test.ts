import { beforeEach, expect, it, vi } from 'vitest'

/**
 * The desk, in the hands of the test: whatever is asked of it, by addresses without a host as in a
 * browser.
 */
const desk = vi.hoisted(() => {
  const found = { sent: [] as Request[], answers: [] as (() => Response)[] }
  const Whole = Request
  globalThis.Request = class extends Whole {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(
        typeof input === 'string' && input.startsWith('/') ? `http://desk.test${input}` : input,
        init,
      )
    }
  }
  globalThis.fetch = (request) => {
    found.sent.push(request as Request)
    return Promise.resolve(found.answers.shift()!())
  }
  return found
})
import { api, ok } from '../api/client'
import { logIn, logOut, look, may, session, setKeys } from './session.svelte'

const MORAG = {
  person: { username: 'morag' },
  username: 'morag',
  may: ['look', 'test'],
  csrf: 'c1',
  keys_on: true,
  passkeys_at: 'localhost',
}
const answer = (body: unknown, status = 200) =>
  desk.answers.push(() =>
    status === 204
      ? new Response(null, { status })
      : new Response(JSON.stringify(body), {
          status,
          headers: { 'Content-Type': 'application/json' },
        }),
  )

beforeEach(() => {
  desk.sent = []
  desk.answers = []
})

it('knows who is logged in, and what they may do', async () => {
  answer(MORAG)
  await look()
  expect([session.known, session.who?.username, session.passkeysAt]).toEqual([
    true,
    'morag',
    'localhost',
  ])
  expect([may('test'), may('change')]).toEqual([true, false])
})
it('sends the token that the log-in gave with everything that changes something', async () => {
  answer({ ...MORAG, csrf: 'c2' })
  await logIn('morag', 'word', '123456')
  expect(await desk.sent[0]!.clone().json()).toEqual({
    username: 'morag',
    password: 'word',
    code: '123456',
    new_password: '',
  })
  answer({ ...MORAG, csrf: 'c2', keys_on: false })
  await setKeys(false)
  expect(desk.sent[1]!.headers.get('X-CSRFToken')).toBe('c2')
  expect(session.who?.keys_on).toBe(false)
})
it('knows nobody after a log-out', async () => {
  answer(null, 204)
  answer({ person: null, csrf: 'c3', may: [] })
  await logOut()
  expect([session.who, may('look')]).toEqual([null, false])
})
it('notices wherever it happens that the session has ended', async () => {
  answer(MORAG)
  await look()
  answer({ title: 'Nobody is logged in.', detail: 'Log in.', status: 401 }, 401)
  answer({ person: null, csrf: 'c4', may: [] })
  await expect(ok(api.GET('/api/today'))).rejects.toMatchObject({ status: 401 })
  await vi.waitFor(() => expect(session.who).toBeNull())
})
