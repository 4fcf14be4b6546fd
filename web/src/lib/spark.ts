/** A line of the last samples: its path, and where tests failed. Pure shapes. */
export interface Point {
  passed: boolean
  ms: number
}
export interface SparkShape {
  path: string
  failures: { x: number; y: number }[]
  says: string
}

/** Fit samples, oldest first, into a box. Times above four times the median are cut off, so that one slow test does not flatten the rest. */
export function spark(samples: readonly Point[], width: number, height: number): SparkShape {
  if (samples.length === 0) return { path: '', failures: [], says: 'no tests yet' }
  const sorted = samples.map((one) => one.ms).sort((a, b) => a - b)
  const median = sorted[Math.floor(sorted.length / 2)] ?? 0
  const top = Math.max(1, Math.min(sorted.at(-1) ?? 1, median * 4))
  const x = (place: number) => (samples.length === 1 ? width : (place / (samples.length - 1)) * width)
  const y = (ms: number) => height - 2 - (Math.min(ms, top) / top) * (height - 4) * 0.8
  const path = 'M' + samples.map((one, place) => `${round(x(place))} ${round(y(one.ms))}`).join('L')
  const failed = samples.filter((one) => !one.passed).length
  const failures = samples.flatMap((one, place) => (one.passed ? [] : [{ x: round(x(place)), y: height - 3 }]))
  const words = failed ? `${failed} of the last ${samples.length} tests failed` : `the last ${samples.length} tests passed`
  return { path, failures, says: `${words}, about ${Math.round(median)} ms` }
}

const round = (value: number): number => Math.round(value * 10) / 10
