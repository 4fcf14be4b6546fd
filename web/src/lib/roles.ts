/**
 * What people do on each page, by the role it needs: a person whose role forbids it is told
 * immediately, and not after having typed.
 */
export type Act = 'test' | 'change' | 'read_journal'

export interface OnPage {
  /** What is done there, in words that follow “let you”. */
  acts: Partial<Record<Act, string>>
  /** The page is nothing but that act: anyone who may not do it sees the sentence in its place. */
  whole?: Act
}

/** Which roles may, in words. The rights themselves come with the session. */
export const WHO: Record<Act, string> = {
  test: 'operators and administrators',
  change: 'administrators',
  read_journal: 'administrators and auditors',
}

const NOTHING: OnPage = { acts: {} }

/** By the addresses of web/src/router.ts; a unit test compares them. */
export const PAGES: Record<string, OnPage> = {
  '/': NOTHING,
  '/applications': { acts: { change: 'add an application' } },
  '/applications/new': { acts: { change: 'add an application' }, whole: 'change' },
  '/applications/:key': { acts: { change: 'change it or set up a connection' } },
  '/applications/:key/clients/new': { acts: { change: 'register a client' }, whole: 'change' },
  '/applications/:key/profile': { acts: { change: 'change the profile' } },
  '/clients/:id': { acts: { change: 'change the client' } },
  '/clients/:id/redirect-uris': { acts: { change: 'change the redirect URIs' } },
  '/clients/:id/scopes': {
    acts: { test: 'have new tokens made', change: 'change scopes or ask for consent' },
  },
  '/redirect-uris': NOTHING,
  '/scopes': NOTHING,
  '/access-rules': NOTHING,
  '/access-rules/:key/:environment': { acts: { change: 'change the rules' } },
  '/workloads': { acts: { change: 'add or change one' } },
  '/workloads/:id': { acts: { change: 'change it or give it a key' } },
  '/accounts': NOTHING,
  '/owners': { acts: { change: 'add or change one' } },
  '/owners/:id': { acts: { change: 'change how they are reached' } },
  '/people': { acts: { change: 'add or change somebody' } },
  '/people/:username': { acts: { change: 'see to what somebody leaves behind' } },
  '/inventory': { acts: { change: 'take an inventory in' } },
  '/inventory/imports/:id': { acts: { change: 'stop or undo it' } },
  '/connections': { acts: { change: 'set one up' } },
  '/connections/new': { acts: { change: 'make a connection' }, whole: 'change' },
  '/connections/names': { acts: { change: 'rename connections' } },
  '/connections/:name': NOTHING,
  '/connections/:environment/:name': {
    acts: { test: 'test it or sign in', change: 'change either half' },
  },
  '/connections/:environment/:name/set-up': {
    acts: { test: 'test it or sign in', change: 'set it up' },
  },
  '/tests/:id': NOTHING,
  '/credentials': { acts: { change: 'replace, revoke or hand one over' } },
  '/credentials/house': { acts: { change: 'issue or revoke' } },
  '/credentials/handovers': { acts: { change: 'hand a secret over' } },
  '/credentials/programs': { acts: { change: 'register a program' } },
  '/credentials/leaked': { acts: { change: 'look up what leaked' }, whole: 'change' },
  '/credentials/:id': { acts: { change: 'replace it, revoke it or add its expiry' } },
  '/certificates': { acts: { change: 'issue or revoke one' } },
  '/certificates/read': NOTHING,
  '/certificates/:id': { acts: { change: 'replace or revoke it' } },
  '/replacements/:id': { acts: { change: 'go on with it' } },
  '/me': NOTHING,
  '/allow/:id': NOTHING,
  '/rounds': {
    acts: { test: 'begin a round', change: 'permit real work or close what is left behind' },
  },
  '/rounds/:number': { acts: { test: 'stop it' } },
  '/environments': { acts: { change: 'add or change one' } },
  '/decommissioning': NOTHING,
  '/decommissioning/:id': { acts: { change: 'decommission it' } },
  '/help': NOTHING,
  '/safe': NOTHING,
  '/health': NOTHING,
  '/settings': NOTHING,
  '/journal': { acts: { read_journal: 'read the journal' }, whole: 'read_journal' },
}

/** What is done on the page at an address. A part of the address that is a name stands for any. */
export function onPage(pathname: string): OnPage {
  const parts = pathname.replace(/\/+$/, '').split('/').slice(1)
  const fits = (pattern: string) => {
    const wanted = pattern.split('/').slice(1)
    return (
      wanted.length === parts.length &&
      wanted.every((entry, at) => entry.startsWith(':') || entry === parts[at])
    )
  }
  const exact = PAGES[pathname]
  if (exact) return exact
  const found = Object.keys(PAGES).find((pattern) => fits(pattern))
  return found ? PAGES[found]! : NOTHING
}

/**
 * The sentence for somebody who may do `rights` and no more; empty where there is nothing to say.
 */
export function mayNot(page: OnPage, rights: readonly string[]): string {
  const missing = (Object.entries(page.acts) as [Act, string][]).filter(
    ([act]) => !rights.includes(act),
  )
  if (!missing.length) return ''
  const acts = missing.map(([act, words]) => `${words} (${WHO[act]})`)
  return `Your role does not let you ${acts.join(', or ')}.`
}
