/**
 * A chain of certificates drawn as a chain: a plate for each, joined by rings, each with its life
 * on one time line. Pure shapes.
 */
export interface ChainLink {
  not_before: string
  not_after: string
  ends_first: boolean
  broken: string
}
export interface Plate {
  /** From the left edge of the time line; cut where the life begins before it or ends beyond it. */
  x: number
  width: number
  beginsBefore: boolean
  endsBeyond: boolean
  over: boolean
}
export interface ChainShape {
  plates: Plate[]
  now: number
  /** Where the chain ends, if that is on the line. */
  end: number | null
  ticks: { x: number; label: string }[]
}

const DAY = 86_400_000

/**
 * The time line runs from a little before today to half as far again as the first end, so that the
 * end that matters stands on it, whether the root lives
 * ten years more or not.
 */
export function chainShape(links: readonly ChainLink[], now: number, width: number): ChainShape {
  const ends = links.map((link) => new Date(link.not_after).getTime())
  const first = Math.min(...ends)
  const ahead = Math.max(first - now, 20 * DAY)
  const from = Math.min(now - ahead * 0.25, first < now ? first - 5 * DAY : now)
  const to = now + ahead * 1.5
  const at = (moment: number) =>
    Math.round(((Math.min(Math.max(moment, from), to) - from) / (to - from)) * width * 10) / 10
  const plates = links.map((link, place) => {
    const begin = new Date(link.not_before).getTime()
    const end = ends[place]!
    return {
      x: at(begin),
      width: Math.max(2, at(end) - at(begin)),
      beginsBefore: begin < from,
      endsBeyond: end > to,
      over: end < now || begin > now,
    }
  })
  return {
    plates,
    now: at(now),
    end: links.length ? at(first) : null,
    ticks: ticks(from, to, width / 58).map((moment) => ({
      x: at(moment),
      label: label(moment, to - from),
    })),
  }
}

/** Starts of months or years, so many at the most. */
function ticks(from: number, to: number, most: number): number[] {
  const months = (to - from) / (30 * DAY)
  const step = [1, 2, 3, 6, 12, 24, 60, 120].find((step) => months / step <= most) ?? 240
  const found: number[] = []
  const start = new Date(from)
  for (
    let month = Math.ceil((start.getUTCFullYear() * 12 + start.getUTCMonth() + 1) / step) * step;
    ;
    month += step
  ) {
    const moment = Date.UTC(Math.floor(month / 12), month % 12, 1)
    if (moment > to) return found
    found.push(moment)
  }
}

function label(moment: number, whole: number): string {
  const at = new Date(moment)
  const month = new Intl.DateTimeFormat('en-GB', { month: 'short', timeZone: 'UTC' }).format(at)
  return whole > 900 * DAY
    ? String(at.getUTCFullYear())
    : at.getUTCMonth() === 0
      ? `${month} ${at.getUTCFullYear()}`
      : month
}
