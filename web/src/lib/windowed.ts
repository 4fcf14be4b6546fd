/**
 * Which rows of a long list are drawn: pure numbers from the scroll position. Rows are of one
 * height, in pixels.
 */
export interface Window {
  first: number
  last: number
  above: number
  below: number
}

/**
 * The rows in sight, with some more on either side, and the heights of what is not drawn. `top` is
 * how far the list's start is above the sight's.
 */
export function inSight(
  count: number,
  height: number,
  top: number,
  sight: number,
  more = 12,
): Window {
  const first = Math.max(0, Math.min(count, Math.floor(top / height) - more))
  const last = Math.max(first, Math.min(count, Math.ceil((top + sight) / height) + more))
  return { first, last, above: first * height, below: (count - last) * height }
}
