/** The drawings are pure functions from data to shapes; times are words. */
import { describe, expect, it } from 'vitest'
import { glyph } from './glyph'
import { spark } from './spark'
import { exact, fromNow, millis, span } from './time'
import { inSight } from './windowed'
import { capital, lower, RUNGS, rungName } from './words'

describe('glyph', () => {
  it('draws a bar for each pin, in their order, 22 px high', () => {
    const shape = glyph(['fits', 'differs', 'not_proven'])
    expect(shape.height).toBe(22)
    expect(shape.bars.map((bar) => bar.fit)).toEqual(['fits', 'differs', 'not_proven'])
    expect(shape.bars.map((bar) => bar.x)).toEqual([2, 11, 20])
  })
  it('meets at the line where a pin fits and stands off it where one differs', () => {
    const [fits, differs] = glyph(['fits', 'differs']).bars
    expect(fits!.providerY + 8).toBeLessThan(11)
    expect(fits!.callerY).toBeGreaterThan(11)
    expect(differs!.callerY).toBeLessThan(11)
    expect(differs!.providerY).toBeLessThan(fits!.providerY)
  })
  it('stays inside its box', () => {
    for (const bar of glyph(Array(11).fill('differs')).bars) {
      expect(bar.providerY).toBeGreaterThanOrEqual(0)
      expect(bar.callerY + 8).toBeLessThanOrEqual(22)
    }
  })
  it('is empty for no pins', () => expect(glyph([]).bars).toEqual([]))
})

describe('spark', () => {
  const pass = (ms: number) => ms
  it('says so while there are no tests', () =>
    expect(spark([], 80, 24)).toEqual({ path: '', failures: [], says: 'no tests yet' }))
  it('runs from left to right inside its box', () => {
    const numbers = spark([pass(10), pass(50), pass(20)], 80, 24)
      .path.match(/[\d.]+/g)!
      .map(Number)
    expect(numbers.filter((_, place) => place % 2 === 0)).toEqual([0, 40, 80])
    expect(Math.min(...numbers)).toBeGreaterThanOrEqual(0)
    expect(Math.max(...numbers.filter((_, place) => place % 2 === 1))).toBeLessThanOrEqual(24)
  })
  it('marks failures and says how many', () => {
    const shape = spark([pass(10), -5], 80, 24)
    expect(shape.failures).toHaveLength(1)
    expect(shape.says).toBe('1 of the last 2 tests failed, about 10 ms')
  })
  it('does not let one slow test flatten the rest', () => {
    const calm = spark([pass(10), pass(20), pass(10)], 80, 24).path
    const slow = spark([pass(10), pass(20), pass(10), pass(9000)], 80, 24).path
    const spread = (path: string) => {
      const ys = path
        .match(/[\d.]+/g)!
        .map(Number)
        .filter((_, place) => place % 2 === 1)
        .slice(0, 3)
      return Math.max(...ys) - Math.min(...ys)
    }
    expect(spread(slow)).toBeGreaterThan(spread(calm) / 5)
  })
  it('draws a single test', () => expect(spark([pass(3)], 80, 24).path).toMatch(/^M80 /))
})

describe('time', () => {
  const now = Date.parse('2026-11-24T12:00:00Z')
  it.each([
    [59, '59 s'],
    [60, '1 min'],
    [3 * 3600 + 5, '3 h'],
    [86400, '1 day'],
    [41 * 86400, '41 days'],
  ])('says %i seconds as %s', (seconds, words) => expect(span(seconds)).toBe(words))
  it.each([
    ['2026-11-24T11:58:00Z', '2 min ago'],
    ['2026-11-24T12:38:30Z', 'in 38 min'],
    ['2026-11-24T12:00:02Z', 'just now'],
    [null, ''],
  ])('sees %s from now as %s', (at, words) => expect(fromNow(at, now)).toBe(words))
  it('has the exact moment too', () => expect(exact('2026-11-24T12:00:00Z')).toContain('2026'))
  it('says milliseconds', () => expect([millis(112.4), millis(2400)]).toEqual(['112 ms', '2.4 s']))
})

describe('rows in sight', () => {
  it('draws all of a short list', () =>
    expect(inSight(20, 36, -100, 800)).toEqual({ first: 0, last: 20, above: 0, below: 0 }))
  it('draws what is in sight of ten thousand rows, and keeps their height', () => {
    const seen = inSight(10_000, 36, 180_000, 800)
    expect(seen.last - seen.first).toBeLessThan(60)
    expect(seen.first * 36).toBeLessThanOrEqual(180_000)
    expect(seen.last * 36).toBeGreaterThanOrEqual(180_800)
    expect(seen.above + seen.below + (seen.last - seen.first) * 36).toBe(360_000)
  })
  it('stays inside the list at its end', () =>
    expect(inSight(50, 36, 99_999, 800)).toMatchObject({ first: 50, last: 50, below: 0 }))
})

describe('words', () => {
  it('puts a label into a sentence', () =>
    expect([lower('Key ID'), lower('API key')]).toEqual(['key ID', 'API key']))
  it('names the six rungs in order', () =>
    expect(RUNGS.map(([, name]) => name)).toEqual([
      'Find',
      'Reach',
      'Secure',
      'Sign in',
      'Allowed',
      'Work',
    ]))
  it('knows a rung by its key', () =>
    expect([rungName('sign_in'), rungName('none')]).toEqual(['Sign in', 'none']))
  it('begins with a capital', () => expect(capital('redirect URI')).toBe('Redirect URI'))
})
