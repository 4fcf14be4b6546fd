/** Names of states and rungs as people read them. */
export const STATES: Record<string, string> = {
  latched: 'Latched',
  sticking: 'Sticking',
  unlatched: 'Unlatched',
  not_proven: 'Not proven',
}
export const RUNGS: [string, string][] = [
  ['find', 'Find'],
  ['reach', 'Reach'],
  ['secure', 'Secure'],
  ['sign_in', 'Sign in'],
  ['allowed', 'Allowed'],
  ['work', 'Work'],
]
export const FITS: Record<string, string> = {
  fits: 'fits',
  differs: 'differs',
  missing: 'is missing',
  not_proven: 'is not proven',
  not_asked: 'is not asked for',
}
/** How often rounds that begin by the clock test a connection: minutes, and in words. */
export const INTERVALS: [number, string][] = [
  [0, 'every round'],
  [60, 'every hour'],
  [360, 'every 6 hours'],
  [1440, 'every day'],
  [10080, 'every week'],
]
/** How often, in words, whatever the minutes. */
export const intervalName = (minutes: number): string =>
  INTERVALS.find(([known]) => known === minutes)?.[1] ?? `every ${minutes} minutes`
/** Whether a test has come to its end, one way or another. */
export const ended = (test: { state: string }): boolean =>
  ['done', 'stopped', 'cut'].includes(test.state)
/** A number with its thousands set apart: 12,400. */
export const grouped = (count: number): string => count.toLocaleString('en')
/** A number and its noun: “1 caller”, “2,000 callers”. */
export const counted = (count: number, noun: string): string =>
  `${grouped(count)} ${noun}${count === 1 ? '' : 's'}`
export const capital = (text: string): string => text.slice(0, 1).toUpperCase() + text.slice(1)
/** A label inside a sentence: its first letter small, unless it begins with an abbreviation. */
export const lower = (label: string): string =>
  /^.[A-Z]/.test(label) ? label : label.slice(0, 1).toLowerCase() + label.slice(1)
export const rungName = (key: string): string => RUNGS.find(([one]) => one === key)?.[1] ?? key
/** What kind of credential it is, inside a sentence. */
export function kindName(kind: string, house = false): string {
  if (house && kind === 'token') return 'API key'
  const [own, of] = kind.split('.').reverse()
  const name = own!.replaceAll('_', ' ').replace(/^api /, 'API ')
  return of ? `${name} of the ${of}` : name
}
/** Whether an application has clients of OAuth 2.0 that are registered there. */
export const takesClients = (
  application: { schemes: { registers: boolean }[] } | undefined,
): boolean => application?.schemes.some((scheme) => scheme.registers) ?? false
