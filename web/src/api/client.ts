/** The API, typed from its own description. Every refusal becomes a `Problem` that says what to do next. */
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
export type Round = Schemas['RoundFull']
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
  csrf = token
}
export function whenLoggedOut(act: () => void): void {
  onStranger = act
}

export const api = createClient<paths>({ baseUrl: '' })
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', csrf)
    return request
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
    throw new Problem(0, 'Neat Latch does not answer.', 'Look whether it runs, then try again. What you typed is still here.')
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

/** What makes a form's content be done once: sent again, because its answer was lost, it carries the same Idempotency-Key; other content carries another. */
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
