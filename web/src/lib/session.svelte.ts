import { api, ok, useCsrf, whenLoggedOut, type Schemas } from '../api/client'

type Session = Schemas['SessionOut']

/**
 * Who is logged in, and where passkeys work. The one piece of state that is no query: everything
 * else depends on it.
 */
export const session = $state<{
  known: boolean
  who: Session | null
  passkeysAt: string
  /** Nobody can log in yet: the first administrator is still to be made. */
  setUpFirst: boolean
}>({
  known: false,
  who: null,
  passkeysAt: '',
  setUpFirst: false,
})

/** What an act on one's own log-in answered: who is logged in now, under a new key. */
export function take(found: Session): void {
  useCsrf(found.csrf)
  session.who = found.person ? found : null
  session.passkeysAt = found.passkeys_at ?? ''
  session.setUpFirst = found.set_up_first ?? false
  session.known = true
}

export async function look(): Promise<void> {
  take(await ok(api.GET('/api/session')))
}
export async function logIn(
  username: string,
  password: string,
  code = '',
  new_password = '',
): Promise<void> {
  take(await ok(api.POST('/api/session', { body: { username, password, code, new_password } })))
}
/** Make the first administrator, who is logged in by it. */
export async function makeFirst(body: Schemas['FirstAdministrator']): Promise<void> {
  take(await ok(api.POST('/api/session/first-administrators', { body })))
}
export async function logOut(): Promise<void> {
  await ok(api.DELETE('/api/session'))
  await look()
}
export async function setKeys(keys_on: boolean): Promise<void> {
  take(await ok(api.PUT('/api/session/preferences', { body: { keys_on } })))
}
export async function readNotices(): Promise<void> {
  take(await ok(api.DELETE('/api/session/notices')))
}
export const may = (what: string): boolean => session.who?.may?.includes(what) ?? false

whenLoggedOut(() => {
  session.who = null
  void look()
})
