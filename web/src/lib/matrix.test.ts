/** The scope matrix, and other words of the benches. */
import { describe, expect, it } from 'vitest'
import { columnWidth, consentSign, consentWords, rowWords } from './matrix'

describe('scope matrix', () => {
  it('keeps forty columns side by side at 1280 pixels, and none narrower than a target', () => {
    // 1245 pixels of page, 284 of them for the names and the five columns of facts.
    expect(columnWidth(40, 1245 - 284) * 40).toBeLessThanOrEqual(1245 - 284)
    expect(columnWidth(400, 900)).toBe(24)
    expect(columnWidth(3, 900)).toBe(44)
    expect(columnWidth(0, 900)).toBe(44)
  })
  it('has a text twin for each row', () => {
    const workloads = [{ name: 'Night run' }, { name: 'Report' }, { name: 'Board' }]
    expect(rowWords('write', ['needed', 'lacks', ''], workloads)).toBe(
      'write: Report: stopped without it; Night run: need it',
    )
    expect(rowWords('read', ['', 'serves', ''], workloads)).toBe(
      'read: Report: would be served by it',
    )
    expect(rowWords('odd', ['', '', ''], workloads)).toBe('odd: no workload calls for it')
  })
  it('says consent in words and in one sign', () => {
    expect(
      ['person', 'given', 'asked', 'wanted'].map((state) => consentWords(state, true)),
    ).toEqual(['the person', 'given', 'asked', 'not given'])
    expect(consentWords('wanted', false)).toBe('required')
    expect(['person', 'given', 'asked', 'wanted'].map((state) => consentSign(state, true))).toEqual(
      ['·', '✓', '…', '✗'],
    )
    expect(consentSign('wanted', false)).toBe('○')
  })
})
