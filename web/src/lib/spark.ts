/** A line of the last tests: its path, and where tests failed. Pure shapes. */
export interface SparkShape {
  path: string
  failures: { x: number; y: number }[]
  says: string
}

/**
 * Fit the last tests, oldest first, into a box: milliseconds, below zero where one failed. Times
 * above four times the median are cut off, so that one slow test does not flatten the rest.
 */
export function spark(recent: readonly number[], width: number, height: number): SparkShape {
  if (recent.length === 0) return { path: '', failures: [], says: 'no tests yet' }
  const samples = recent.map((sample) => ({ passed: sample >= 0, ms: Math.abs(sample) }))
  const sorted = samples.map((sample) => sample.ms).sort((a, b) => a - b)
  const median = sorted[Math.floor(sorted.length / 2)] ?? 0
  const top = Math.max(1, Math.min(sorted.at(-1) ?? 1, median * 4))
  const x = (place: number) =>
    samples.length === 1 ? width : (place / (samples.length - 1)) * width
  const y = (ms: number) => height - 2 - (Math.min(ms, top) / top) * (height - 4) * 0.8
  const path =
    'M' + samples.map((sample, place) => `${round(x(place))} ${round(y(sample.ms))}`).join('L')
  const failed = samples.filter((sample) => !sample.passed).length
  const failures = samples.flatMap((sample, place) =>
    sample.passed ? [] : [{ x: round(x(place)), y: height - 3 }],
  )
  const words = failed
    ? `${failed} of the last ${samples.length} tests failed`
    : `the last ${samples.length} tests passed`
  return { path, failures, says: `${words}, about ${Math.round(median)} ms` }
}

const round = (value: number): number => Math.round(value * 10) / 10
