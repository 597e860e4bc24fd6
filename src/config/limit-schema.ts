import * as z from 'zod/mini'
import { defaults } from '../core/defaults.js'
import { shown } from '../core/errors/shown.js'
import { type WindowUnit, windowKinds, windowUnits } from '../core/limits/limit.js'
import { type Duration, durationMs } from '../core/time/duration.js'
import {
  annotated,
  callCount,
  durationPattern,
  type Issue,
  noDuration,
  oneOf,
  option,
  received,
  required,
  share,
  zone,
} from './schema-parts.js'

function noWindow(issue: Issue): string {
  if (typeof issue.input === 'number' && issue.input > 0) return noDuration(issue)
  return `${received(issue)} is not a window: write ${windowUnits.map((unit) => `"${unit}"`).join(', ')} or a duration, e.g. "10 s"`
}

const windowLength = annotated(
  z
    .union([z.string(), z.literal(0)], { error: noWindow })
    .check(z.refine((value) => windowUnits.includes(value as WindowUnit) || (durationMs(value as Duration) ?? 0) > 0, { error: noWindow })),
  { pattern: `${durationPattern}|^(${windowUnits.join('|')})$`, examples: [...windowUnits, '10 s'] },
) as z.ZodMiniType<WindowUnit | Duration, WindowUnit | Duration>

const reserved = option(
  share,
  'The share (0 to 1) of the limit that background calls leave to others; below 1 at least one call is left to them.',
  defaults.reserved,
)
const per = required(windowLength, `How long the window is: ${windowUnits.join(', ')}, or a duration such as "10 s".`)

/** The shape of `LimitOptions`. */
export const limit = z.union(
  [
    z.strictObject({
      calls: required(callCount, 'Calls allowed in a window.'),
      per,
      window: option(
        oneOf(windowKinds),
        'How windows lie: any stretch of that length, by the clock, or from the first call on.',
        defaults.window,
      ),
      zone: option(zone, 'IANA time zone whose calendar aligned days and longer windows follow.', defaults.zone),
      reserved,
    }),
    z.strictObject({
      calls: required(callCount, 'Tokens by which the bucket fills up again `per` time.'),
      per,
      burst: required(callCount, 'Tokens that the bucket holds; each call takes one.'),
      reserved,
    }),
    z.strictObject({ atOnce: required(callCount, 'Calls allowed to be under way at once.'), reserved }),
  ],
  {
    error: (issue) =>
      `${received(issue)} is not a limit${limitMistake(issue.input)}: write { calls: 30, per: "minute" }, { calls: 5, per: "second", burst: 20 } or { atOnce: 4 }`,
  },
)

/** In which of its parts something is no limit, where that is plain. */
function limitMistake(input: unknown): string {
  const given = (typeof input === 'object' && input !== null ? input : {}) as Record<'calls' | 'per' | 'atOnce' | 'burst', unknown>
  for (const name of ['atOnce', 'burst'] as const)
    if (given[name] !== undefined && !callCount.safeParse(given[name]).success) return `, for "${name}" is ${shown(given[name])}`
  if (given.atOnce !== undefined) return ''
  if (given.calls !== undefined && !callCount.safeParse(given.calls).success) return `, for "calls" is ${shown(given.calls)}`
  if (given.calls !== undefined && given.per === undefined) return ', for "per" is missing'
  const per = windowLength.safeParse(given.per, { reportInput: true })
  return given.per !== undefined && per.error ? `, for "per" ${per.error.issues[0]?.message}` : ''
}
