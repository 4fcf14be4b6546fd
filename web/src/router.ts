import { createRouter } from 'sv-router'
import Today from './views/today/Today.svelte'

/** Addresses of the pages. All but the first page are fetched when they are first opened. */
export const { navigate, route } = createRouter({
  '/': Today,
  '/applications': () => import('./views/applications/Applications.svelte'),
  '/applications/new': () => import('./views/applications/AddApplication.svelte'),
  '/applications/:key': () => import('./views/applications/ApplicationPage.svelte'),
  '/applications/:key/clients/new': () => import('./views/clients/RegisterClient.svelte'),
  '/clients/:id/redirect-uris': () => import('./views/benches/UriBench.svelte'),
  '/clients/:id/scopes': () => import('./views/benches/ScopeBench.svelte'),
  '/redirect-uris': () => import('./views/benches/RedirectUris.svelte'),
  '/scopes': () => import('./views/benches/Scopes.svelte'),
  '/access-rules': () => import('./views/access/AccessRules.svelte'),
  '/access-rules/:key/:environment': () => import('./views/access/AccessPage.svelte'),
  '/workloads': () => import('./views/workloads/Workloads.svelte'),
  '/workloads/:id': () => import('./views/workloads/WorkloadPage.svelte'),
  '/accounts': () => import('./views/accounts/MyAccounts.svelte'),
  '/people/:username': () => import('./views/accounts/PersonPage.svelte'),
  '/inventory': () => import('./views/inventory/Inventory.svelte'),
  '/inventory/imports/:id': () => import('./views/inventory/ImportPage.svelte'),
  '/clients/:id': () => import('./views/clients/ClientPage.svelte'),
  '/connections': () => import('./views/connections/Connections.svelte'),
  '/connections/new': () => import('./views/connections/NewConnection.svelte'),
  '/connections/names': () => import('./views/connections/Names.svelte'),
  '/connections/:name': () => import('./views/connections/ConnectionPage.svelte'),
  '/connections/:environment/:name': () => import('./views/connections/ConnectionPage.svelte'),
  '/connections/:environment/:name/set-up': () => import('./views/connections/SetUp.svelte'),
  '/applications/:key/profile': () => import('./views/applications/ProfilePage.svelte'),
  '/tests/:id': () => import('./views/rounds/TestPage.svelte'),
  '/credentials': () => import('./views/credentials/Credentials.svelte'),
  '/credentials/house': () => import('./views/credentials/House.svelte'),
  '/credentials/handovers': () => import('./views/handovers/Handovers.svelte'),
  '/credentials/programs': () => import('./views/credentials/Programs.svelte'),
  '/credentials/leaked': () => import('./views/credentials/Leaked.svelte'),
  '/credentials/:id': () => import('./views/credentials/CredentialPage.svelte'),
  '/certificates': () => import('./views/certificates/Certificates.svelte'),
  '/certificates/read': () => import('./views/certificates/ReadCertificate.svelte'),
  '/certificates/:id': () => import('./views/certificates/CertificatePage.svelte'),
  '/replacements/:id': () => import('./views/credentials/ReplacementPage.svelte'),
  '/me': () => import('./views/people/MyLogIn.svelte'),
  '/allow/:id': () => import('./views/allow/Allow.svelte'),
  '/rounds': () => import('./views/rounds/Rounds.svelte'),
  '/rounds/:number': () => import('./views/rounds/RoundPage.svelte'),
  '/help': () => import('./views/help/Glossary.svelte'),
  '/environments': () => import('./views/environments/Environments.svelte'),
  '/safe': () => import('./views/own/Safe.svelte'),
  '/decommissioning': () => import('./views/decommissioning/Decommissionings.svelte'),
  '/decommissioning/:id': () => import('./views/decommissioning/DecommissioningPage.svelte'),
  '/health': () => import('./views/own/Health.svelte'),
  '/settings': () => import('./views/own/Settings.svelte'),
  '/journal': () => import('./views/journal/Journal.svelte'),
  '/owners': () => import('./views/owners/Owners.svelte'),
  '/owners/:id': () => import('./views/owners/OwnerPage.svelte'),
  '/people': () => import('./views/people/People.svelte'),
  '*': () => import('./views/Missing.svelte'),
})

type Param = 'environment' | 'id' | 'key' | 'name' | 'number' | 'username'

/**
 * A part of the address that is a name, as the page's pattern calls it; empty where the pattern has
 * no such part.
 */
export const param = (name: Param): string =>
  (route.params as Partial<Record<Param, string>>)[name] ?? ''

/**
 * The reference of the connection that the address is of. One without its environment is as it
 * stands there: nothing has it, and the answer says which references have that name.
 */
export const reference = (): string =>
  [param('environment'), param('name')].filter(Boolean).join('/')

/** Go to an address of ours, with its query if it has one. */
export function goto(address: string): void {
  const [path = '/', query = ''] = address.split('?')
  // A page that cannot be fetched, as after an upgrade of the desk, is loaded with everything else.
  navigate(path as '/', { search: Object.fromEntries(new URLSearchParams(query)) } as never).catch(
    () => location.assign(address),
  )
}
