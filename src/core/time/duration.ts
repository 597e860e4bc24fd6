import { parse } from '@lukeed/ms'

/** A length of time: words such as `"30 days"`, `"90 s"`, `"1 year"` (365.25 days), or a number of milliseconds. */
export type Duration = string | number

/** Milliseconds of a duration, or undefined if it is none or negative. */
export function durationMs(value: unknown): number | undefined {
  const ms = typeof value === 'number' ? value : typeof value === 'string' ? wordsMs(value) : undefined
  return ms !== undefined && Number.isFinite(ms) && ms >= 0 ? ms : undefined
}

/** A bare number in a string has no unit and is refused: seconds and milliseconds are too easily confused. */
function wordsMs(words: string): number | undefined {
  const [, count, unit] = /^\s*([\d.]+)\s*([a-z]+)\s*$/i.exec(words) ?? []
  const unitMs = unit === undefined ? undefined : parse(`1 ${unit}`)
  return unitMs === undefined ? undefined : Number(count) * unitMs
}
