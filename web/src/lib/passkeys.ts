/**
 * Passkeys: what the browser is asked, and what it answers, as the API takes both (Web
 * Authentication Level 3 §5.1, toJSON).
 */
import { api, ok, Problem, type Schemas } from '../api/client'
import { session } from './session.svelte'

type Options = Schemas['AskBrowser']['options']

/**
 * Whether passkeys work on the page as it was opened: browsers make them for a name, and for no
 * other.
 */
export const here = (): boolean =>
  !!session.passkeysAt && location.hostname === session.passkeysAt && 'credentials' in navigator

const gaveUp = (error: unknown): Problem =>
  new Problem(
    0,
    'No passkey was used.',
    error instanceof DOMException && error.name === 'InvalidStateError'
      ? 'This device has one of yours already.'
      : 'The browser was not given one, or you said no. Try again, or use a code.',
  )

const asJSON = (made: Credential | null): Record<string, unknown> =>
  (made as PublicKeyCredential).toJSON() as unknown as Record<string, unknown>

/** Have the device make a passkey. */
export async function make(options: Options): Promise<Record<string, unknown>> {
  try {
    return asJSON(
      await navigator.credentials.create({
        publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(
          options as unknown as PublicKeyCredentialCreationOptionsJSON,
        ),
      }),
    )
  } catch (error) {
    throw gaveUp(error)
  }
}

/**
 * Have a passkey sign; answers the code that stands for it, once. Without options, anyone who is
 * logged in is asked.
 */
export async function prove(options?: Options): Promise<string> {
  const asked = options ?? (await ok(api.POST('/api/session/passkeys/challenges'))).options
  let credential: Record<string, unknown>
  try {
    credential = asJSON(
      await navigator.credentials.get({
        publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(
          asked as unknown as PublicKeyCredentialRequestOptionsJSON,
        ),
      }),
    )
  } catch (error) {
    throw gaveUp(error)
  }
  return (await ok(api.POST('/api/session/passkeys/assertions', { body: { credential } }))).code
}
