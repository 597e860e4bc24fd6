import { grains, type LedgerRow, type TallyRow } from './ledger-row.js'
import { Tally } from './tally.js'
import { countNames, type TallyData } from './tally-data.js'

/** Moments that calendars know, milliseconds since 1970-01-01T00:00Z. */
export const furthest = 8e15

/** The longest that a bucket can be, milliseconds. */
const longestMs = 32 * 86_400_000

/** A ledger row of unknown origin, parsed; undefined where it is not valid. */
export function readableRow(row: LedgerRow): TallyRow | undefined {
  try {
    const { bucket, grain, lengthMs, mode, provider, endpoint, tally } = row
    const isOne =
      Number.isSafeInteger(bucket) &&
      Math.abs(bucket) < furthest &&
      grains.includes(grain) &&
      lengthMs > 0 &&
      lengthMs <= longestMs &&
      (mode === 'measure' || mode === 'reuse') &&
      typeof provider === 'string' &&
      typeof endpoint === 'string' &&
      isTally(tally)
    return isOne ? { ...row, tally: Tally.from(tally) } : undefined
  } catch {
    return undefined
  }
}

const knownNames = new Set<string>([
  ...countNames,
  'oldestStaleMs',
  'notStored',
  'refetchedUnits',
  'wouldHitUnits',
  'units',
  'parts',
  'ms',
  'upMs',
  'ageMs',
  'changedMs',
  'unchangedMs',
])

/** Whether a value of unknown origin is a valid tally. */
export function isTally(tally: unknown): tally is TallyData {
  if (typeof tally !== 'object' || tally === null || Array.isArray(tally)) return false
  const { units } = tally as TallyData
  for (const name in tally) {
    const value = (tally as Record<string, unknown>)[name]
    if (!knownNames.has(name)) return false
    if (name === 'units') {
      if (!isUnits(units?.made) || !isUnits(units?.asked)) return false
    } else if (name === 'parts') {
      if (typeof value !== 'object' || value === null || !Object.values(value).every(isPart)) return false
    } else if (name === 'notStored' || name === 'refetchedUnits' || name === 'wouldHitUnits') {
      if (!isUnits(value)) return false
    } else if (name === 'ms' || name === 'upMs' || name === 'ageMs' || name === 'changedMs' || name === 'unchangedMs') {
      if (typeof value !== 'string' || !/^[\d,+]*$/.test(value)) return false
    } else if (!isCount(value)) return false
  }
  return true
}

/** What is counted apart has no parts of its own. */
function isPart(part: unknown): boolean {
  return typeof part === 'object' && part !== null && !Object.hasOwn(part, 'parts') && isTally(part)
}

function isUnits(units: unknown): boolean {
  return typeof units === 'object' && units !== null && Object.values(units).every(isCount)
}

function isCount(value: unknown): boolean {
  return typeof value === 'number' && value >= 0 && value < Number.POSITIVE_INFINITY
}
