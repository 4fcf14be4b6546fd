/** Where the navigation leads: its sections, and what stands under *More*. */
import type { Act } from './roles'

export interface Section {
  /** The key that goes there, after `g`. */
  letter: string
  name: string
  address: string
  /** Who may not do this is not led there. */
  need?: Act
  /** On a phone it stands under *More*. */
  wide?: boolean
}

export const SECTIONS: Section[] = [
  { letter: 't', name: 'Today', address: '/' },
  { letter: 'a', name: 'Applications', address: '/applications', wide: true },
  { letter: 'c', name: 'Connections', address: '/connections' },
  { letter: 'k', name: 'Credentials', address: '/credentials' },
  { letter: 'w', name: 'Workloads', address: '/workloads', wide: true },
  { letter: 'r', name: 'Rounds', address: '/rounds' },
]
export const MORE: Section[] = [
  { letter: 'e', name: 'Certificates', address: '/certificates' },
  { letter: 'h', name: 'House authority', address: '/credentials/house' },
  { letter: 'o', name: 'Owners', address: '/owners' },
  { letter: 'p', name: 'People and teams', address: '/people' },
  { letter: 'n', name: 'Environments', address: '/environments' },
  { letter: 'd', name: 'Decommissioning', address: '/decommissioning' },
  { letter: 'i', name: 'Inventory', address: '/inventory' },
  { letter: 'f', name: 'Safe', address: '/safe' },
  { letter: 'b', name: 'Health', address: '/health' },
  { letter: 's', name: 'Settings', address: '/settings' },
  { letter: 'j', name: 'Journal', address: '/journal', need: 'read_journal' },
]
/** The key that opens *More*, after `g`. */
export const MORE_LETTER = 'm'

/** Pages that belong to a section without standing below its address. */
const BELONGS: [string, string][] = [
  ['/clients', '/applications'],
  ['/tests', '/connections'],
  ['/redirect-uris', '/applications'],
  ['/scopes', '/applications'],
  ['/access-rules', '/applications'],
  ['/certificates', '/credentials'],
  ['/replacements', '/credentials'],
]

/** The address of the section, or of the entry under *More*, that a page belongs to; else none. */
export function sectionOf(pathname: string): string | undefined {
  const below = (address: string) => pathname === address || pathname.startsWith(`${address}/`)
  const belongs = BELONGS.find(([start]) => below(start))?.[1]
  const own = [...SECTIONS, ...MORE]
    .map((section) => section.address)
    .filter((address) => (address === '/' ? pathname === '/' : below(address)))
  return (
    belongs ??
    own.find((address) => SECTIONS.some((section) => section.address === address)) ??
    own[0]
  )
}
