import * as z from 'zod/mini'
import { trusts } from '../core/decide/trust.js'
import { defaults } from '../core/defaults.js'
import { atLimits, collapses, countBys, type ReuseExceptions, refusals } from '../core/endpoints/options.js'
import type { AnswerFacts, FreshnessFunction } from '../core/rules/freshness.js'
import { modes } from '../core/rules/mode.js'
import { limit } from './limit-schema.js'
import {
  callCount,
  duration,
  type Issue,
  isFunction,
  listOf,
  name,
  noDuration,
  oneOf,
  option,
  part,
  pointer,
  price,
  received,
  required,
  share,
  text,
  yesOrNo,
} from './schema-parts.js'
import { timetable } from './timetable-schema.js'

const storableStatus = /^(20[0-57-9]|2[1-9]\d|30[0-35-9]|3[1-9]\d|4[0-9]{2})$/
const neverStored = ['428', '429', '431']

const freshForStatus = z.record(
  text(
    (status) => storableStatus.test(status) && !neverStored.includes(status),
    'a status that can be stored: 200 to 499, without 206, 304, 428, 429 and 431',
  ),
  z.union([z.literal('never'), duration], { error: (issue) => `${noDuration(issue)}, or "never"` }),
)

function noBytes(issue: Issue): string {
  return `${received(issue)} is not a whole number of bytes: write 5000000 for 5 MB`
}

function noEntries(issue: Issue): string {
  return `${received(issue)} is not a whole number above 0: write how many answers are kept, e.g. 1000`
}

export function noWhole(issue: Issue): string {
  return `${received(issue)} is not a whole number: write one without decimals that is not negative, e.g. 10`
}

function orObject<S extends Readonly<Record<string, z.ZodMiniType>>>(shape: S, what: string, example: string) {
  return z.union([z.strictObject(shape), duration], {
    error: (issue) => `${received(issue)} is neither a duration nor ${what}, e.g. ${example}`,
  })
}

export const timeout = orObject(
  {
    firstByte: option(duration, 'How long an upstream call may take until its first byte.', defaults.firstByte),
    idle: option(duration, 'How long the next piece of an answer may take.', defaults.idle),
    total: option(duration, 'How long an upstream call may take in all. Default: no limit.'),
  },
  'an object with "firstByte", "idle" and "total"',
  '{ firstByte: "5 s", idle: "10 s", total: "2 min" }',
)

const holdOff = orObject(
  {
    first: option(duration, 'The first pause after a failure.', defaults.holdOffFirst),
    upTo: option(duration, 'The longest that a pause becomes.', defaults.holdOffUpTo),
  },
  'an object with "first" and "upTo"',
  '{ first: "1 s", upTo: "5 min" }',
)

const noTimes = (issue: Issue) => `${received(issue)} is not a whole number of times, 0 to 10`
const times = z.int({ error: noTimes }).check(z.minimum(0, { error: noTimes }), z.maximum(10, { error: noTimes }))

const noStatus = (issue: Issue) => `${received(issue)} is not a status of an answer, 200 to 599`
export const status = z.int({ error: noStatus }).check(z.minimum(200, { error: noStatus }), z.maximum(599, { error: noStatus }))

const failsWhen = z.union(
  [
    z.strictObject({
      statuses: option(listOf(status), 'Statuses that count as failures.'),
      at: option(
        text((value) => value.startsWith('/'), 'a JSON Pointer, e.g. "/error"'),
        'JSON Pointer (RFC 6901) to what says in an answer that it failed, e.g. "/error".',
      ),
      is: option(
        z.union([z.string(), z.number(), z.boolean(), z.null()]),
        'What has to be there for the answer to count as a failure. Default: anything but null and false.',
      ),
    }),
    z.custom<(answer: AnswerFacts) => boolean>(isFunction),
  ],
  { error: (issue) => `${received(issue)} is neither an object with "statuses", "at" and "is" nor a function` },
)

const unitSource = z.union(
  [
    z.strictObject({
      at: required(pointer, 'JSON Pointer (RFC 6901) to the number of units in the answer.'),
      upTo: option(callCount, 'The most units that one call can cost, which budgets count on before it leaves.'),
    }),
    z.strictObject({
      header: required(
        text((value) => value !== '', 'a name'),
        'Header field of the answer that holds the number of units.',
      ),
      upTo: option(callCount, 'The most units that one call can cost, which budgets count on before it leaves.'),
    }),
    z.custom<(answer: AnswerFacts) => number>(isFunction),
  ],
  { error: (issue) => `${received(issue)} is neither { at: "/usage/tokens" }, { header: "x-tokens" } nor a function` },
)

const exceptions = z.strictObject({
  exceptRequest: option(
    part<NonNullable<ReuseExceptions['exceptRequest']>>('a function', isFunction),
    'Says which requests are sent on as if there were no store.',
  ),
  exceptAnswer: option(part<NonNullable<ReuseExceptions['exceptAnswer']>>('a function', isFunction), 'Says which answers are not stored.'),
})

/** What one call may want. */
const terms = {
  neverStale: option(yesOrNo, 'Whether an answer past its freshness is never given out.', false),
  atLimit: option(
    oneOf(atLimits),
    'What a caller gets who would exceed a limit: an older answer, else a place in the queue; a place in the queue; or an error.',
    defaults.atLimit,
  ),
  maxWait: option(duration, 'How long a call waits in the queue at the most.', defaults.maxWait),
  within: option(duration, 'How long a caller waits at the most for an answer to begin. Default: as long as all else takes.'),
}

/** The shape of `CallOptions`. */
export const callOptionsSchema = z.strictObject({
  ...terms,
  background: option(yesOrNo, 'Whether nobody waits for it: it comes after others, and leaves them their share of every limit.', false),
  refusals: option(oneOf(refusals), "What refusals end in. Default: the endpoint's."),
  reload: option(yesOrNo, 'Whether a new answer is asked for, whatever is stored; it takes the place of what is.', false),
  bypass: option(yesOrNo, 'Whether nothing stored is used, and the answer is not stored.', false),
  label: option(
    text((value) => value.length > 0 && value.length <= 100, 'a text of 1 to 100 characters'),
    'What the call is made for, as its outcome, events, journal lines and spans name it. No secret: it is written as it is.',
  ),
  signal: option(
    part<AbortSignal>('an AbortSignal', (value) => typeof (value as AbortSignal | undefined)?.addEventListener === 'function'),
    'Ends the wait of the caller when it aborts. A signal beside the URL comes before it, and it before that of a Request.',
  ),
})

/** The options of `ReuseOptions`. */
export const reuse = {
  ...terms,
  timeout: option(timeout, "How long one upstream call may take. A duration alone is the total. Default: the provider's."),
  failsWhen: option(failsWhen, 'Answers that count as failures besides 5xx, 429 and JSON that does not parse.'),
  retries: option(
    z.union(
      [
        z.strictObject({
          upTo: required(times, 'How often at the most.'),
          share: option(share, 'The share (0 to 1) of recent calls to the provider that may be repetitions.', defaults.retryShare),
        }),
        times,
      ],
      { error: (issue) => `${received(issue)} is neither a number of times, 0 to 10, nor an object with "upTo" and "share"` },
    ),
    'How often a failed call is made again, where repeating it is safe.',
    defaults.retries,
  ),
  refreshAhead: option(duration, 'How long before its end of freshness an answer in use is refreshed. Default: never.'),
  limits: option(listOf(limit), 'Limits of the endpoint, besides those of the provider.'),
  freshFor: option(
    z.union([z.custom<FreshnessFunction>(isFunction), duration], { error: noDuration }),
    'How long an answer is fresh, e.g. "30 days". Without it, `freshUntil` or a `trust` in the upstream nothing is stored.',
  ),
  freshUntil: option(timetable, 'For what is published on a timetable: an answer is fresh until the next publication.'),
  jitter: option(share, 'Spreads the end of freshness over this last share of it, 0 to 1.', 0),
  freshForStatus: option(freshForStatus, 'Freshness of answers with some statuses, e.g. { "404": "1 min", "204": "never" }.'),
  sliding: option(
    z.strictObject(
      { upTo: required(duration, 'How long after it was stored an answer can be kept fresh by use.') },
      { error: (issue) => `${received(issue)} is not of the form { upTo: "1 day" }` },
    ),
    'Each use of an answer makes it fresh for `freshFor` again.',
  ),
  trust: option(
    oneOf(trusts),
    'Whether the rule says how an answer is kept, or the upstream by its header fields (RFC 9111), or the stricter of them.',
    defaults.trust,
  ),
  staleWhileRevalidate: option(duration, 'How long past its freshness an answer may be given out while it is refreshed (RFC 5861).', 0),
  staleIfError: option(duration, 'How long past its freshness an answer may be given out when a refresh fails (RFC 5861).', 0),
  holdOff: option(
    holdOff,
    'How long nobody asks again after calls failed, twice as long after each further failure; 0: never. A duration alone is the first pause.',
  ),
  reuse: option(
    z.union([z.literal('never'), exceptions], {
      error: (issue) => `${received(issue)} is neither "never" nor an object with the functions "exceptRequest" and "exceptAnswer"`,
    }),
    '"never": nothing is stored, whatever sets and defaults say; or which calls are excepted from reuse.',
  ),
  maxEntries: option(
    z.int({ error: noEntries }).check(z.minimum(1, { error: noEntries })),
    'Maximum number of responses kept, within 10%. Default: as many as the store has room for.',
  ),
  countBy: option(oneOf(countBys), 'What to count separately: by what `per` returns, or by the label of each call. Default: nothing.'),
  collapse: option(oneOf(collapses), 'Whose upstream call under way a caller may get the answer of.', defaults.collapse),
  maxBodyBytes: option(
    z.int({ error: noBytes }).check(z.minimum(0, { error: noBytes })),
    'Bytes of a body kept at the most; larger answers are passed on and not stored.',
    defaults.maxBodyBytes,
  ),
  mode: option(oneOf(modes), "What is done with calls, where that is not the provider's mode."),
  version: option(
    z.int({ error: (issue) => `${received(issue)} is not a whole number` }),
    'Raise it when the code that reads the answers changed: those stored under another version count as absent.',
  ),
  perCall: option(price, "Price of one call where it is not the plan's, a decimal in quotes. Such calls count towards nothing else in it."),
  units: option(z.record(name, unitSource), 'Where answers say how many units they cost, by the names of the units in the plan.'),
  weight: option(
    z.int({ error: noWhole }).check(z.minimum(0, { error: noWhole })),
    'How many calls of the plan one call counts as.',
    defaults.weight,
  ),
}

const setName = text((value) => value !== '', 'the name of a set, or a list of them')

/** The options of `RuleOptions`. */
export const rule = {
  ...reuse,
  set: option(
    z.union([setName, listOf(setName)], { error: (issue) => `${received(issue)} is not the name of a set, or a list of them` }),
    'Names of option sets in `sets`.',
  ),
}
