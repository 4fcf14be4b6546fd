/**
 * What shows a thing that people change, by the roots of the query keys: after a change of one,
 * these are read again and no others. The one place that knows it; an act names what it changes.
 */
const CONNECTION = [
  'accounts', 'belongings', 'connection', 'connections', 'drawable', 'lines', 'name-proposals',
  'my-accounts', 'set-up', 'signed-calls', 'today',
] as const // prettier-ignore
const WORKLOAD = [
  'drawables-of-workload',
  'draws-of-connection',
  'draws-of-workload',
  'own-keys',
  'workload',
  'workloads',
] as const
const CREDENTIAL = [
  'credential',
  'credentials',
  'handovers',
  'issued',
  'replacement',
  'replacement-previews',
  'revealing',
] as const
const CLIENT = [
  'client',
  'clients',
  'programs',
  'redirect-uris',
  'scope-bench',
  'scopes',
  'uri-bench',
] as const
const OWNER = ['belongings', 'owner', 'owners'] as const

export const SHOWN = {
  access: ['access', 'access-rules'],
  application: [
    'access-rules',
    'application',
    'applications',
    'profile-text',
    ...CLIENT,
    ...CONNECTION,
    ...OWNER,
  ],
  asked: ['asked-connect', 'asked-consent', 'asked-handover'],
  certificate: [
    'certificate',
    'certificate-authorities',
    'certificates',
    ...CREDENTIAL,
    ...CLIENT,
    ...CONNECTION,
    ...WORKLOAD,
  ],
  client: [
    'application',
    'applications',
    'certificates',
    'house',
    ...CLIENT,
    ...CREDENTIAL,
    ...CONNECTION,
    ...WORKLOAD,
  ],
  connection: [
    'application',
    'applications',
    'my-tests',
    'test',
    ...CONNECTION,
    ...CLIENT,
    ...CREDENTIAL,
    ...WORKLOAD,
  ],
  credential: [
    'certificate',
    'certificates',
    'house',
    ...CREDENTIAL,
    ...CLIENT,
    ...CONNECTION,
    ...WORKLOAD,
    ...OWNER,
  ],
  decommissioning: ['decommissioning', 'decommissionings'],
  environment: [
    'access',
    'access-rules',
    'application',
    'applications',
    'certificates',
    'certificate-authorities',
    'environments',
    'house',
    ...CLIENT,
    ...CREDENTIAL,
    ...CONNECTION,
    ...WORKLOAD,
    ...OWNER,
  ],
  filter: ['filters'],
  house: [
    'application',
    'certificate-authorities',
    'certificates',
    'house',
    ...CLIENT,
    ...CREDENTIAL,
  ],
  inventory: ['import', 'import-open', 'import-steps', 'imports'],
  notes: [
    'annotation',
    'applications',
    'connections',
    'credentials',
    'owners',
    'people',
    'tags',
    'workloads',
  ],
  me: ['own-sessions', 'my-accounts', 'people'],
  owner: ['application', 'applications', ...OWNER, ...WORKLOAD, ...CREDENTIAL],
  person: ['people', 'teams', 'own-sessions', ...OWNER, ...CONNECTION],
  round: [
    'leftovers',
    'round',
    'round-rules',
    'round-tests',
    'rounds',
    'test',
    'today',
    'connection',
    'connections',
  ],
  workload: [
    'application',
    ...WORKLOAD,
    ...CLIENT,
    ...CONNECTION,
    ...OWNER,
    'credential',
    'credentials',
  ],
} as const satisfies Record<string, readonly string[]>

/** Something that people change; *everything*, where nobody can say what an act changes. */
export type Thing = keyof typeof SHOWN | 'everything'
type Key = readonly unknown[]

/**
 * Whether a query is to be read anew after a change of these; what `kept` names has its answer
 * already.
 */
export function isShown(key: Key, changed: readonly Thing[], kept?: Key): boolean {
  if (kept && kept.length === key.length && kept.every((part, place) => part === key[place]))
    return false
  return changed.some(
    (thing) => thing === 'everything' || (SHOWN[thing] as readonly unknown[]).includes(key[0]),
  )
}
