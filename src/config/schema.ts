import { z } from 'zod'
import { trusts } from '../core/decide/keep.js'
import { modes } from '../core/decide/mode.js'
import { type WindowUnit, windowKinds, windowUnits } from '../core/limits/limit.js'
import { isPrice } from '../core/money/money.js'
import { tierings, unbilledOutcomes } from '../core/money/plan.js'
import { atLimits } from '../core/rules/options.js'
import { parseRequestTemplate } from '../core/rules/request-template.js'
import { calendarPeriods, isTimeZone } from '../core/time/calendar.js'
import { durationMs } from '../core/time/duration.js'
import { isTimeOfDay, weekdays } from '../core/time/timetable.js'

type Issue = { readonly input?: unknown }

const received = ({ input }: Issue): string => (input === undefined ? 'nothing' : (JSON.stringify(input) ?? String(input)))

/** For editors; the refinement below is what counts. */
const durationPattern =
  '^\\s*\\d+(\\.\\d+)?\\s*(m(illi)?s(ec(ond)?s?)?|s(ec(ond)?s?)?|m(in(ute)?s?)?|h((ou)?rs?)?|d(ays?)?|w(eeks?)?|y((ea)?rs?)?)\\s*$'

const duration = z
  .union([z.string(), z.number()], { error: noDuration })
  .refine((value) => durationMs(value) !== undefined, { error: noDuration })
  .meta({ pattern: durationPattern, minimum: 0, examples: ['30 s', '5 min', '1 day'] })

function noDuration(issue: Issue): string {
  return `${received(issue)} is no duration: write a number that is not negative and a unit, e.g. "30 s", "5 min", "1 day"`
}

function text(isRight: (value: string) => boolean, wanted: string) {
  const error = (issue: Issue) => `${received(issue)} is not ${wanted}`
  return z.string({ error }).refine(isRight, { error })
}

export const name = text((value) => /^[A-Za-z][\w-]*$/.test(value), 'a name: letters, digits, "-" and "_", a letter first')
const pointer = text((value) => value.startsWith('/'), 'a JSON Pointer, e.g. "/name"')

function oneOf<const T extends readonly string[]>(values: T) {
  return z.enum(values, { error: (issue) => `${received(issue)} is none of ${values.map((value) => `"${value}"`).join(', ')}` })
}

function part(wanted: string, isRight: (value: unknown) => boolean) {
  return z.custom(isRight, { error: `is not ${wanted}` }).optional()
}

const price = text(isPrice, 'a price: write a decimal in quotes, e.g. "0.004"')
const yesOrNo = z.boolean({ error: (issue) => `${received(issue)} is neither true nor false` })
const fieldNames = z.array(text((name) => name !== '', 'a name'))

const isFunction = (value: unknown) => typeof value === 'function'

function noShare(issue: Issue): string {
  return `${received(issue)} is no share: give a number from 0 to 1, e.g. 0.1`
}

const zone = text(isTimeZone, 'an IANA time zone, e.g. "Europe/Oslo"')
const timeOfDay = text(isTimeOfDay, 'a time of day, e.g. "06:00"')
const monthDay = (issue: Issue) => `${received(issue)} is no day of a month, 1 to 31`

const timetable = z.union([
  z.strictObject({ daily: timeOfDay, zone }),
  z.strictObject({ weekly: oneOf(weekdays), at: timeOfDay, zone }),
  z.strictObject({ monthly: z.int({ error: monthDay }).min(1, { error: monthDay }).max(31, { error: monthDay }), at: timeOfDay, zone }),
])

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
  return `${received(issue)} is not a whole number of bytes`
}

function orObject<S extends z.ZodRawShape>(shape: S, what: string, example: string) {
  return z.union([z.strictObject(shape), duration], {
    error: (issue) => `${received(issue)} is neither a duration nor ${what}, e.g. ${example}`,
  })
}

const timeout = orObject(
  { firstByte: duration.optional(), total: duration.optional() },
  'an object with "firstByte" and "total"',
  '{ firstByte: "5 s", total: "30 s" }',
)

const holdOff = orObject(
  { first: duration.optional(), upTo: duration.optional() },
  'an object with "first" and "upTo"',
  '{ first: "1 s", upTo: "5 min" }',
)

function noWindow(issue: Issue): string {
  return `${received(issue)} is no window: write ${windowUnits.map((unit) => `"${unit}"`).join(', ')} or a duration, e.g. "10 s"`
}

const windowLength = z
  .union([z.string(), z.number()], { error: noWindow })
  .refine((value) => windowUnits.includes(value as WindowUnit) || (durationMs(value) ?? 0) > 0, { error: noWindow })
  .meta({ pattern: `${durationPattern}|^(${windowUnits.join('|')})$`, exclusiveMinimum: 0, examples: [...windowUnits, '10 s'] })

const reserved = z.number({ error: noShare }).min(0, { error: noShare }).max(1, { error: noShare }).optional()
const callCount = z.int({ error: noCount }).positive({ error: noCount })

const limit = z.union(
  [
    z.strictObject({ calls: callCount, per: windowLength, window: oneOf(windowKinds).optional(), zone: zone.optional(), reserved }),
    z.strictObject({ calls: callCount, per: windowLength, burst: callCount, reserved }),
    z.strictObject({ atOnce: callCount, reserved }),
  ],
  {
    error: (issue) =>
      `${received(issue)} is no limit: write { calls: 30, per: "minute" }, { calls: 5, per: "second", burst: 20 } or { atOnce: 4 }`,
  },
)

const noTimes = (issue: Issue) => `${received(issue)} is not a whole number of times, 0 to 10`
const times = z.int({ error: noTimes }).min(0, { error: noTimes }).max(10, { error: noTimes })

const noStatus = (issue: Issue) => `${received(issue)} is no status of an answer, 200 to 599`
const status = z.int({ error: noStatus }).min(200, { error: noStatus }).max(599, { error: noStatus })

const failsWhen = z.union(
  [
    z.strictObject({
      statuses: z.array(status).optional(),
      at: text((value) => value.startsWith('/'), 'a JSON Pointer, e.g. "/error"').optional(),
      is: z.union([z.string(), z.number(), z.boolean(), z.null()]).optional(),
    }),
    z.custom(isFunction),
  ],
  { error: (issue) => `${received(issue)} is neither an object with "statuses", "at" and "is" nor a function` },
)

const otherwise = z.strictObject({
  status: status.optional(),
  headers: z.record(z.string(), z.string()).optional(),
  json: z.json({ error: (issue) => `${received(issue)} is no JSON` }).optional(),
  text: z.string().optional(),
})

/** What one call may want otherwise. */
const terms = {
  neverStale: yesOrNo.optional(),
  atLimit: oneOf(atLimits).optional(),
  maxWait: duration.optional(),
  within: duration.optional(),
}

export const callOptionsSchema = z.strictObject({ ...terms, background: yesOrNo.optional() })

const reuse = {
  ...terms,
  timeout: timeout.optional(),
  failsWhen: failsWhen.optional(),
  retries: z
    .union([z.strictObject({ upTo: times, share: reserved }), times], {
      error: (issue) => `${received(issue)} is neither a number of times, 0 to 10, nor an object with "upTo" and "share"`,
    })
    .optional(),
  refreshAhead: duration.optional(),
  limits: z.array(limit).optional(),
  freshFor: z.union([z.custom(isFunction), duration], { error: noDuration }).optional(),
  freshUntil: timetable.optional(),
  jitter: z.number({ error: noShare }).min(0, { error: noShare }).max(1, { error: noShare }).optional(),
  freshForStatus: freshForStatus.optional(),
  sliding: z.strictObject({ upTo: duration }, { error: (issue) => `${received(issue)} is not of the form { upTo: "1 day" }` }).optional(),
  trust: oneOf(trusts).optional(),
  staleWhileRevalidate: duration.optional(),
  staleIfError: duration.optional(),
  holdOff: holdOff.optional(),
  reuse: z
    .union(
      [z.literal('never'), z.strictObject({ exceptRequest: part('a function', isFunction), exceptAnswer: part('a function', isFunction) })],
      {
        error: (issue) => `${received(issue)} is neither "never" nor an object with the functions "exceptRequest" and "exceptAnswer"`,
      },
    )
    .optional(),
  maxEntries: z.int({ error: noQueue }).min(1, { error: noQueue }).optional(),
  maxBodyBytes: z.int({ error: noBytes }).min(0, { error: noBytes }).optional(),
  mode: oneOf(modes).optional(),
  version: z.int({ error: (issue) => `${received(issue)} is not a whole number` }).optional(),
  perCall: price.optional(),
  units: z
    .record(
      name,
      z.union(
        [z.strictObject({ at: pointer }), z.strictObject({ header: text((value) => value !== '', 'a name') }), z.custom(isFunction)],
        {
          error: (issue) => `${received(issue)} is neither { at: "/usage/tokens" }, { header: "x-tokens" } nor a function`,
        },
      ),
    )
    .optional(),
  weight: z.int({ error: noQueue }).min(0, { error: noQueue }).optional(),
}

const setName = text((name) => name !== '', 'the name of a set, or a list of them')

const rule = {
  ...reuse,
  set: z
    .union([setName, z.array(setName)], { error: (issue) => `${received(issue)} is not the name of a set, or a list of them` })
    .optional(),
}

const pointers = z.array(pointer)

const keyedBy = z.union([
  z.strictObject({
    query: z.union([z.strictObject({ except: fieldNames }), fieldNames]).optional(),
    headers: fieldNames.optional(),
    cookies: fieldNames.optional(),
    body: pointers.optional(),
  }),
  z.custom(isFunction, {
    error: (issue) => `${received(issue)} is neither an object with "query", "headers", "cookies" and "body" nor a function`,
  }),
])

const endpoint = {
  ...rule,
  keyedBy: keyedBy.optional(),
  shared: yesOrNo.optional(),
  per: part('a function', isFunction),
  safe: yesOrNo.optional(),
  targetedFields: fieldNames.optional(),
  otherwise: otherwise.optional(),
  replaySetCookie: yesOrNo.optional(),
  request: text(
    (value) => parseRequestTemplate(value) !== undefined,
    'a method and a path template, e.g. "GET /stations/{id}" or "GET /v2/*"',
  ),
}

const date = text(isDate, 'a date, e.g. "2026-07-01"')

const planTerms = {
  baseFee: price.optional(),
  included: z.int({ error: noCount }).positive({ error: noCount }).optional(),
  perCall: price.optional(),
  tiers: z.array(z.strictObject({ upTo: callCount.optional(), perCall: price })).optional(),
  tiering: oneOf(tierings).optional(),
  packages: z.strictObject({ of: callCount, price }).optional(),
  units: z.record(name, z.strictObject({ price, per: callCount.optional() })).optional(),
  minimum: price.optional(),
  maximum: price.optional(),
}

const plan = z.strictObject({
  currency: text(isCurrency, 'an ISO 4217 currency code, e.g. "EUR"'),
  ...planTerms,
  period: z
    .union([z.strictObject({ days: callCount, from: date }), oneOf(calendarPeriods)], {
      error: (issue) => `${received(issue)} is no period: write "day", "month", "year" or { days: 30, from: "2026-07-01" }`,
    })
    .optional(),
  anchorDay: z.int({ error: monthDay }).min(1, { error: monthDay }).max(31, { error: monthDay }).optional(),
  zone: zone.optional(),
  notBilled: z.array(oneOf(unbilledOutcomes)).optional(),
  changes: z.array(z.strictObject({ from: date, ...planTerms })).optional(),
})

const quota = z.strictObject({
  calls: callCount,
  per: oneOf(calendarPeriods),
  zone: zone.optional(),
})

function noCount(issue: Issue): string {
  return `${received(issue)} is not a whole number of calls above 0`
}

function noQueue(issue: Issue): string {
  return `${received(issue)} is not such a whole number`
}

const provider = z.strictObject({
  baseUrl: text(isBaseUrl, 'an absolute http or https URL without query, e.g. "https://tides.ebbline.example/v2"').optional(),
  timeout: timeout.optional(),
  limits: z.array(limit).optional(),
  queue: z.int({ error: noQueue }).min(0, { error: noQueue }).optional(),
  secretQuery: fieldNames.optional(),
  secretHeaders: fieldNames.optional(),
  mode: oneOf(modes).optional(),
  defaults: z.strictObject(rule).optional(),
  plan: plan.optional(),
  quota: quota.optional(),
  endpoints: z.union([z.record(name, z.strictObject(endpoint)), z.array(z.strictObject({ name, ...endpoint }))]).optional(),
})

/** The shape of a `StashConfig`. What only several options together show is checked in `cross-checks.ts`. */
export const configSchema = z.strictObject({
  $schema: z.string().optional(),
  store: part('a store: give memoryStore(), sqliteStore(file) or another', isObject),
  mode: oneOf(modes).optional(),
  sets: z.record(name, z.strictObject(reuse)).optional(),
  providers: z.record(name, provider).optional(),
  fetch: part('a function', isFunction),
  clock: part('a clock', isObject),
  storeTimeout: duration.optional(),
  openWithoutStore: yesOrNo.optional(),
  closeWithin: duration.optional(),
  chance: part('a function', isFunction),
  warn: part('a function', isFunction),
})

/** The shape of an operation's options. */
export const operationSchema = z.strictObject({
  ...rule,
  keyedBy: part('a function', isFunction),
  otherwise: part('an object with a "value"', (value) => isObject(value) && Object.hasOwn(value as object, 'value')),
})

function isObject(value: unknown): boolean {
  return typeof value === 'object' && value !== null
}

function isCurrency(code: string): boolean {
  return Intl.supportedValuesOf('currency').includes(code)
}

function isDate(value: string): boolean {
  const date = new Date(`${value}T00:00Z`)
  return /^\d{4}-\d{2}-\d{2}$/.test(value) && !Number.isNaN(date.getTime()) && date.toISOString().startsWith(value)
}

function isBaseUrl(value: string): boolean {
  if (!URL.canParse(value)) return false
  const url = new URL(value)
  return /^https?:$/.test(url.protocol) && url.search === '' && url.hash === '' && url.username === '' && url.password === ''
}
