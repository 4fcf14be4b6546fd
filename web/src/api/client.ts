/**
 * The API, typed from its own description. Every refusal becomes a `Problem` that says what to do
 * next.
 */
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Connection = Schemas['ConnectionOut']
export type ConnectionRow = Schemas['ConnectionRow']
export type PinOut = Schemas['PinOut']
export type Application = Schemas['ApplicationOut']
export type Client = Schemas['ClientOut']
export type Test = Schemas['TestOut']
export type Today = Schemas['TodayOut']
export type Round = Schemas['RoundOut']
export type Environment = Schemas['EnvironmentOut']

/** A rung as the ladder keeps it. */
export interface Rung {
  rung: string
  passed: boolean
  skipped: boolean
  says: string
  ms: number
  tries: number
  exchanges: Exchange[]
}
export interface Exchange {
  method: string
  url: string
  request_headers: [string, string][]
  request_body: string
  status: number | null
  response_headers: [string, string][]
  response_body: string
  response_size: number
  ms: number
  error: string
}
export interface Cause {
  says: string
  reason: string
  mend: string
  pin: string | null
}

export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly errors: Record<string, string> = {},
    /** What else the problem tells: mistakes of a file, what was changed meanwhile. */
    readonly extra: Record<string, unknown> = {},
  ) {
    super(`${title} ${detail}`)
  }
}

let csrf = ''
let onStranger: () => void = () => {}

export function useCsrf(token: string): void {
  if (token !== csrf) kept.clear()
  csrf = token
}
export function whenLoggedOut(act: () => void): void {
  onStranger = act
}

/**
 * Lists that were answered, by their addresses: in memory only, and the newest of them. Anyone who
 * asks again sends the tag along, and gets
 * the list again only where it has become another.
 */
const kept = new Map<string, { tag: string; text: string }>()
const MOST_KEPT = 40

/** The slash of a connection's reference stays one: addresses are read by people, in logs too. */
const inPath = (value: unknown): string =>
  /^[\w-]+\/[a-z0-9-]+$/.test(String(value)) ? String(value) : encodeURIComponent(String(value))

export const api = createClient<paths>({
  baseUrl: '',
  pathSerializer: (pathname, params) =>
    pathname.replace(/\{(\w+)\}/g, (_, name: string) => inPath(params[name])),
})
api.use({
  onRequest({ request }) {
    const known = request.method === 'GET' ? kept.get(request.url) : undefined
    if (known) request.headers.set('If-None-Match', known.tag)
    return request
  },
  async onResponse({ request, response }) {
    if (request.method !== 'GET') return
    const known = kept.get(request.url)
    if (response.status === 304 && known)
      return new Response(known.text, {
        status: 200,
        headers: { 'Content-Type': 'application/json', ETag: known.tag },
      })
    const tag = response.headers.get('ETag')
    if (response.status !== 200 || !tag?.startsWith('W/')) return
    kept.delete(request.url)
    kept.set(request.url, { tag, text: await response.clone().text() })
    for (const oldest of kept.keys()) {
      if (kept.size <= MOST_KEPT) break
      kept.delete(oldest)
    }
    return
  },
})
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', csrf)
    return request
  },
})

/** Something that is held and would go to a server that nobody cleared it for. */
export type Move = Schemas['MoveOut']
/** What to do with it: it may go there, by a fresh code and a reason, or is discarded. */
export interface Leave {
  code: string
  reason: string
  letGo: boolean
}
type Asking = (asked: Asked) => Promise<Leave | null>
/**
 * What leave is asked for: the title says it, `keeps` that nothing can be discarded instead,
 * `refused` why the last answer was not taken.
 */
export interface Asked {
  title: string
  moves: Move[]
  keeps: boolean
  refused: Problem | null
}
let askLeave: Asking | null = null
let overLeave: () => void = () => {}

/**
 * Who is asked for leave where a change would send what is held elsewhere, and is told when that is
 * over.
 */
export function whenMoving(ask: Asking, over: () => void): void {
  askLeave = ask
  overLeave = over
}

const leaveHeaders = (leave: Leave): Record<string, string> =>
  leave.letGo
    ? { 'Neatlatch-Held': 'let-go' }
    : {
        'Neatlatch-Code': leave.code.trim(),
        'Neatlatch-Reason': encodeURIComponent(leave.reason.trim()),
      }

const asProblem = (response: Response, told: Partial<Problem>): Problem =>
  new Problem(response.status, told.title ?? '', told.detail ?? '', told.errors)

/** The same request again, with leave, until it is taken or anyone who was asked gives up. */
async function withLeave(kept: Request, refused: Response): Promise<Response | undefined> {
  if (refused.status !== 409 || !askLeave) return
  const told = (await refused.clone().json()) as { title: string; moves?: Move[]; keeps?: boolean }
  if (!told.moves?.length) return
  let problem: Problem | null = null
  for (;;) {
    const leave: Leave | null = await askLeave({
      title: told.title,
      moves: told.moves,
      keeps: told.keeps ?? false,
      refused: problem,
    })
    if (!leave) break
    const again = new Request(kept.clone(), { credentials: 'same-origin' })
    for (const [name, value] of Object.entries(leaveHeaders(leave))) again.headers.set(name, value)
    const response = await fetch(again)
    if (![403, 422, 429].includes(response.status)) {
      overLeave()
      return response
    }
    problem = asProblem(response, (await response.json()) as Partial<Problem>)
  }
  overLeave()
}

const sent = new WeakMap<Request, Request>()
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') sent.set(request, request.clone())
    return request
  },
  onResponse({ request, response }) {
    const kept = sent.get(request)
    return kept ? withLeave(kept, response) : undefined
  },
})

interface Answered<T> {
  data?: T
  error?: unknown
  response: Response
}

/** The data of a call, or a `Problem` thrown. */
export async function ok<T>(call: Promise<Answered<T>>): Promise<T> {
  let answered: Answered<T>
  try {
    answered = await call
  } catch {
    throw new Problem(
      0,
      'Neat Latch does not answer.',
      'Look whether it runs, then try again. What you typed is still here.',
    )
  }
  const { data, error, response } = answered
  if (response.ok) return data as T
  const told = (error ?? {}) as { title?: string; detail?: string; errors?: Record<string, string> }
  if (response.status === 401 && !response.url.endsWith('/api/session')) onStranger()
  throw new Problem(
    response.status,
    told.title ?? `The request failed (${response.status}).`,
    told.detail ?? '',
    told.errors,
    told as Record<string, unknown>,
  )
}

export const ifMatch = (version: number): Record<string, string> => ({ 'If-Match': `"${version}"` })

/**
 * What makes a form's content be done once: sent again, because its answer was lost, it carries the
 * same Idempotency-Key; other content carries another.
 */
export interface Once {
  headers: (content: unknown) => Record<string, string>
  /** It was done: the same content is a new wish from here on. */
  over: () => void
}

export function once(): Once {
  let last = ''
  let key = ''
  return {
    headers(content) {
      const text = JSON.stringify(content)
      if (text !== last) [last, key] = [text, crypto.randomUUID()]
      return { 'Idempotency-Key': key }
    },
    over() {
      last = ''
    },
  }
}
