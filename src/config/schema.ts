import { z } from 'zod'
import { trusts } from '../core/decide/keep.js'
import { atLimits, refusals } from '../core/endpoints/options.js'
import { modes } from '../core/rules/mode.js'
import { parseRequestTemplate } from '../core/rules/request-template.js'
import { calendarPeriods } from '../core/time/calendar.js'
import { weekdays } from '../core/time/timetable.js'
import { budget } from './budget-schema.js'
import { limit } from './limit-schema.js'
import { currency, plan } from './plan-schema.js'
import {
  callCount,
  duration,
  fieldNames,
  type Issue,
  isFunction,
  monthDay,
  name,
  noDuration,
  oneOf,
  part,
  pointer,
  price,
  received,
  share,
  text,
  timeOfDay,
  yesOrNo,
  zone,
} from './schema-parts.js'

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
  { firstByte: duration.optional(), idle: duration.optional(), total: duration.optional() },
  'an object with "firstByte", "idle" and "total"',
  '{ firstByte: "5 s", idle: "10 s", total: "2 min" }',
)

const holdOff = orObject(
  { first: duration.optional(), upTo: duration.optional() },
  'an object with "first" and "upTo"',
  '{ first: "1 s", upTo: "5 min" }',
)

const noTimes = (issue: Issue) => `${received(issue)} is not a whole number of times, 0 to 10`
const times = z.int({ error: noTimes }).min(0, { error: noTimes }).max(10, { error: noTimes })

const noStatus = (issue: Issue) => `${received(issue)} is not a status of an answer, 200 to 599`
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

const fallback = z.strictObject({
  status: status.optional(),
  headers: z.record(z.string(), z.string()).optional(),
  json: z.json({ error: (issue) => `${received(issue)} is not JSON` }).optional(),
  text: z.string().optional(),
})

/** What one call may want otherwise. */
const terms = {
  neverStale: yesOrNo.optional(),
  atLimit: oneOf(atLimits).optional(),
  maxWait: duration.optional(),
  within: duration.optional(),
}

export const callOptionsSchema = z.strictObject({ ...terms, background: yesOrNo.optional(), refusals: oneOf(refusals).optional() })

const reuse = {
  ...terms,
  timeout: timeout.optional(),
  failsWhen: failsWhen.optional(),
  retries: z
    .union([z.strictObject({ upTo: times, share: share.optional() }), times], {
      error: (issue) => `${received(issue)} is neither a number of times, 0 to 10, nor an object with "upTo" and "share"`,
    })
    .optional(),
  refreshAhead: duration.optional(),
  limits: z.array(limit).optional(),
  freshFor: z.union([z.custom(isFunction), duration], { error: noDuration }).optional(),
  freshUntil: timetable.optional(),
  jitter: share.optional(),
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
        [
          z.strictObject({ at: pointer, upTo: callCount.optional() }),
          z.strictObject({ header: text((value) => value !== '', 'a name'), upTo: callCount.optional() }),
          z.custom(isFunction),
        ],
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
  fallback: fallback.optional(),
  replaySetCookie: yesOrNo.optional(),
  stream: yesOrNo.optional(),
  refusals: oneOf(refusals).optional(),
  request: text(
    (value) => parseRequestTemplate(value) !== undefined,
    'a method and a path template, e.g. "GET /stations/{id}" or "GET /v2/*"',
  ),
}

const quota = z.strictObject({
  calls: callCount,
  per: oneOf(calendarPeriods),
  zone: zone.optional(),
  remaining: z.strictObject({ header: text((value) => value !== '', 'a name') }).optional(),
})

function noQueue(issue: Issue): string {
  return `${received(issue)} is not a whole number: write one without decimals that is not negative, e.g. 10`
}

const columnName = text((value) => value !== '', 'the name of a column')

const provider = z.strictObject({
  baseUrl: text(isBaseUrl, 'an absolute http or https URL without query, e.g. "https://tides.ebbline.example/v2"').optional(),
  timeout: timeout.optional(),
  limits: z.array(limit).optional(),
  budgets: z.array(budget).optional(),
  believeUpTo: duration.optional(),
  refusals: oneOf(refusals).optional(),
  queue: z.int({ error: noQueue }).min(0, { error: noQueue }).optional(),
  secretQuery: fieldNames.optional(),
  secretHeaders: fieldNames.optional(),
  mode: oneOf(modes).optional(),
  defaults: z.strictObject(rule).optional(),
  plan: plan.optional(),
  quota: quota.optional(),
  usageExport: z
    .strictObject({ day: columnName.optional(), calls: columnName.optional(), amount: columnName.optional(), zone: zone.optional() })
    .optional(),
  endpoints: z.union([z.record(name, z.strictObject(endpoint)), z.array(z.strictObject({ name, ...endpoint }))]).optional(),
})

/** The shape of a `StashConfig`. What only several options together show is checked in `cross-checks.ts`. */
export const configSchema = z.strictObject({
  $schema: z.string().optional(),
  store: part('a store: give memoryStore(), sqliteStore(file) or another', isObject),
  mode: oneOf(modes).optional(),
  refusals: oneOf(refusals).optional(),
  sets: z.record(name, z.strictObject(reuse)).optional(),
  providers: z.record(name, provider).optional(),
  exchange: z.strictObject({ currency, rates: z.record(currency, price) }).optional(),
  ledger: z.strictObject({ minutesFor: duration.optional(), hoursFor: duration.optional(), zone: zone.optional() }).optional(),
  journal: part('a journal: give fileJournal(file)', isObject),
  fetch: part('a function', isFunction),
  clock: part('a clock', isObject),
  storeTimeout: duration.optional(),
  openWithoutStore: yesOrNo.optional(),
  closeWithin: duration.optional(),
  random: part('a function', isFunction),
  warn: part('a function', isFunction),
})

/** The shape of an operation's options. */
export const operationSchema = z.strictObject({
  ...rule,
  keyedBy: part('a function', isFunction),
  fallback: part('an object with a "value"', (value) => isObject(value) && Object.hasOwn(value as object, 'value')),
})

function isObject(value: unknown): boolean {
  return typeof value === 'object' && value !== null
}

function isBaseUrl(value: string): boolean {
  if (!URL.canParse(value)) return false
  const url = new URL(value)
  return /^https?:$/.test(url.protocol) && url.search === '' && url.hash === '' && url.username === '' && url.password === ''
}
