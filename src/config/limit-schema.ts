import { z } from 'zod'
import { type WindowUnit, windowKinds, windowUnits } from '../core/limits/limit.js'
import { durationMs } from '../core/time/duration.js'
import { callCount, durationPattern, type Issue, oneOf, received, share, zone } from './schema-parts.js'

function noWindow(issue: Issue): string {
  return `${received(issue)} is not a window: write ${windowUnits.map((unit) => `"${unit}"`).join(', ')} or a duration, e.g. "10 s"`
}

const windowLength = z
  .union([z.string(), z.number()], { error: noWindow })
  .refine((value) => windowUnits.includes(value as WindowUnit) || (durationMs(value) ?? 0) > 0, { error: noWindow })
  .meta({ pattern: `${durationPattern}|^(${windowUnits.join('|')})$`, exclusiveMinimum: 0, examples: [...windowUnits, '10 s'] })

const reserved = share.optional()

/** The shape of `LimitOptions`. */
export const limit = z.union(
  [
    z.strictObject({ calls: callCount, per: windowLength, window: oneOf(windowKinds).optional(), zone: zone.optional(), reserved }),
    z.strictObject({ calls: callCount, per: windowLength, burst: callCount, reserved }),
    z.strictObject({ atOnce: callCount, reserved }),
  ],
  {
    error: (issue) =>
      `${received(issue)} is not a limit: write { calls: 30, per: "minute" }, { calls: 5, per: "second", burst: 20 } or { atOnce: 4 }`,
  },
)
