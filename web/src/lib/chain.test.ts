/** The drawing of a chain. */
import { describe, expect, it } from 'vitest'
import { chainShape } from './chain'

const NOW = Date.UTC(2026, 5, 1)
const link = (from: string, to: string, ends_first = false) => ({
  not_before: from,
  not_after: to,
  ends_first,
  broken: '',
})
const CHAIN = [
  link('2026-04-01T00:00:00Z', '2026-09-01T00:00:00Z', true),
  link('2024-01-01T00:00:00Z', '2028-01-01T00:00:00Z'),
  link('2024-01-01T00:00:00Z', '2034-01-01T00:00:00Z'),
]

describe('chain', () => {
  it('keeps today and the first end on the line', () => {
    const shape = chainShape(CHAIN, NOW, 600)
    expect(shape.now).toBeGreaterThan(0)
    expect(shape.end!).toBeGreaterThan(shape.now)
    expect(shape.end!).toBeLessThan(600)
  })
  it('cuts what begins before it and ends beyond it', () => {
    const [leaf, , root] = chainShape(CHAIN, NOW, 600).plates
    expect(leaf!.endsBeyond).toBe(false)
    expect(root).toMatchObject({
      x: 0,
      width: 600,
      beginsBefore: true,
      endsBeyond: true,
      over: false,
    })
    expect(leaf!.x + leaf!.width).toBeCloseTo(chainShape(CHAIN, NOW, 600).end!, 0)
  })
  it('shows one that has ended, or has not begun, as over', () => {
    const shape = chainShape(
      [link('2025-01-01T00:00:00Z', '2026-05-20T00:00:00Z', true), CHAIN[1]!],
      NOW,
      600,
    )
    expect(shape.plates.map((plate) => plate.over)).toEqual([true, false])
    expect(shape.end!).toBeLessThan(shape.now)
    expect(shape.end!).toBeGreaterThan(0)
    expect(
      chainShape([link('2027-01-01T00:00:00Z', '2028-01-01T00:00:00Z')], NOW, 600).plates[0]!.over,
    ).toBe(true)
  })
  it('has ticks in their order, inside the line', () => {
    for (const days of [3, 40, 400, 4000]) {
      const shape = chainShape(
        [link('2026-01-01T00:00:00Z', new Date(NOW + days * 86400000).toISOString())],
        NOW,
        600,
      )
      expect(shape.ticks.length).toBeLessThanOrEqual(600 / 58)
      expect([...shape.ticks].sort((a, b) => a.x - b.x)).toEqual(shape.ticks)
      expect(shape.ticks.every((tick) => tick.x >= 0 && tick.x <= 600)).toBe(true)
    }
  })
})
