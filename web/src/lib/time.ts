/** Moments and durations in words. The one place where times are formatted. */
const UNITS: [number, string, string][] = [
  [86400, 'day', 'days'],
  [3600, 'h', 'h'],
  [60, 'min', 'min'],
]

/** A duration in seconds in words, rounded down: “41 days”, “38 min”. */
export function span(seconds: number): string {
  const whole = Math.floor(Math.abs(seconds))
  for (const [unit, one, many] of UNITS) {
    if (whole >= unit) {
      const count = Math.floor(whole / unit)
      return `${count} ${count === 1 ? one : many}`
    }
  }
  return `${whole} s`
}

/** A moment seen from now: “2 min ago”, “in 41 days”, “just now”. */
export function fromNow(at: string | null | undefined, now: number): string {
  if (!at) return ''
  const seconds = (new Date(at).getTime() - now) / 1000
  if (Math.abs(seconds) < 5) return 'just now'
  return seconds < 0 ? `${span(seconds)} ago` : `in ${span(seconds)}`
}

/** The exact moment in the reader's zone. */
export function exact(at: string | null | undefined): string {
  if (!at) return ''
  return new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'long' }).format(
    new Date(at),
  )
}

/** A day in the reader's zone: “12 Mar 2027”. */
export function day(at: string | null | undefined): string {
  if (!at) return ''
  return new Intl.DateTimeFormat('en-GB', {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
  }).format(new Date(at))
}

/**
 * The moment at which a day begins in the reader's zone; what ends “on” that day is counted as
 * ended from then.
 */
export function onDay(date: string): string {
  return new Date(`${date}T00:00:00`).toISOString()
}

/** The day of a moment in the reader's zone, as a date field wants it. */
export function dayOf(at: string): string {
  const moment = new Date(at)
  const two = (part: number) => String(part).padStart(2, '0')
  return `${moment.getFullYear()}-${two(moment.getMonth() + 1)}-${two(moment.getDate())}`
}

/** Milliseconds: “112 ms”, “2.4 s”. */
export function millis(ms: number): string {
  return ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`
}
