/** The scope matrix: pure numbers and words for its cells. Drawn by ScopeMatrix.svelte. */
export type CellKind = 'needed' | 'lacks' | 'serves' | ''

export const CELL_WORDS: Record<CellKind, string> = {
  needed: 'would stop without it',
  lacks: 'is stopped because it is not held',
  serves: 'would be served by it',
  '': 'does not need it',
}
export const CELL_SIGNS: Record<CellKind, string> = { needed: '●', lacks: '✗', serves: '○', '': '' }

/**
 * How wide the columns of workloads are, so that forty fit beside each other: pixels, from 24 to
 * 44.
 */
export function columnWidth(workloads: number, room: number): number {
  return Math.max(24, Math.min(44, Math.floor(room / Math.max(workloads, 1))))
}

/** What a scope is to all workloads, in words: the text twin of its row. */
export function rowWords(
  scope: string,
  cells: readonly string[],
  workloads: readonly { name: string }[],
): string {
  const by = (kind: string) =>
    workloads.filter((_, at) => cells[at] === kind).map((workload) => workload.name)
  const parts = [
    [by('lacks'), 'stopped without it'],
    [by('needed'), 'need it'],
    [by('serves'), 'would be served by it'],
  ] as const
  const said = parts
    .filter(([names]) => names.length)
    .map(([names, what]) => `${names.join(', ')}: ${what}`)
  return `${scope}: ${said.length ? said.join('; ') : 'no workload calls for it'}`
}

/**
 * What a scope's consent is, in words; `permitted` tells a gap from something that is not asked for
 * at all.
 */
export function consentWords(state: string, permitted: boolean): string {
  if (state === 'person') return 'the person'
  if (state === 'wanted') return permitted ? 'not given' : 'required'
  return state
}

/** The same in one sign, for a narrow column. */
export function consentSign(state: string, permitted: boolean): string {
  return { person: '·', given: '✓', asked: '…', wanted: permitted ? '✗' : '○' }[state] ?? ''
}
