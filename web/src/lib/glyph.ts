/**
 * The glyph: a connection's pins as small bars across a line. Pure shapes, drawn by Glyph.svelte
 * and ShearBars.svelte.
 */
export type Fit = 'fits' | 'differs' | 'missing' | 'not_proven' | 'not_asked'

export interface Bar {
  x: number
  fit: Fit
  providerY: number
  callerY: number
}
export interface GlyphShape {
  width: number
  height: number
  middle: number
  bar: { width: number; height: number }
  bars: Bar[]
}

const WIDTH = 6
const STEP = 9
const HEIGHT = 8
const MIDDLE = 11
/** How far a pin that differs stands off the line, in pixels. */
const OFF = 4

/** The shapes for pins in their order; 22 px high. */
export function glyph(fits: readonly string[]): GlyphShape {
  const bars = fits.map((fit, place): Bar => {
    const off = fit === 'differs' ? OFF : 0
    return {
      x: 2 + place * STEP,
      fit: fit as Fit,
      providerY: MIDDLE - 1 - HEIGHT - off / 2,
      callerY: MIDDLE + 1 - off,
    }
  })
  return {
    width: fits.length * STEP + 1,
    height: 22,
    middle: MIDDLE,
    bar: { width: WIDTH, height: HEIGHT },
    bars,
  }
}
