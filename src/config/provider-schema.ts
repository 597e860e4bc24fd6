import * as z from 'zod/mini'
import { defaults } from '../core/defaults.js'
import { refusals } from '../core/endpoints/options.js'
import { protocols } from '../core/protocols/protocol.js'
import type { KeyedRequest, KeyFunction } from '../core/rules/keying.js'
import { modes } from '../core/rules/mode.js'
import { parseRequestTemplate, templateMistake } from '../core/rules/request-template.js'
import { calendarPeriods } from '../core/time/calendar-period.js'
import { budget } from './budget-schema.js'
import { endpointLabels } from './label-schema.js'
import { limit } from './limit-schema.js'
import { plan } from './plan-schema.js'
import { noWhole, rule, status, timeout } from './reuse-schema.js'
import {
  callCount,
  duration,
  fieldNames,
  isFunction,
  listOf,
  name,
  oneOf,
  option,
  part,
  pointer,
  received,
  required,
  text,
  yesOrNo,
  zone,
} from './schema-parts.js'

const fallback = z.strictObject({
  status: option(status, 'Status of the answer.', 200),
  headers: option(z.record(z.string(), z.string()), 'Header fields of the answer.'),
  json: option(z.json() as z.ZodMiniType<unknown, unknown>, 'The body of the answer, as JSON.'),
  text: option(z.string(), 'The body of the answer, as text.'),
})

const keyedBy = z.union([
  z.strictObject({
    query: option(
      z.union([z.strictObject({ except: required(fieldNames, 'Query parameters that do not matter.') }), fieldNames]),
      'Query parameters that matter, or all except some. Default: all.',
    ),
    headers: option(
      z.union([z.strictObject({ except: required(fieldNames, 'Header fields that do not matter.') }), fieldNames]),
      'Header fields that matter, or all that are sent except some. Default: all that are sent, but for those that choose no response, such as User-Agent.',
    ),
    cookies: option(fieldNames, 'Cookies that matter, by name. Default: none.'),
    body: option(
      listOf(pointer),
      'Parts of a JSON body that matter, as JSON Pointers (RFC 6901). Default: all of it, also where a pointer finds nothing.',
    ),
  }),
  z.custom<KeyFunction>(isFunction, {
    error: (issue) => `${received(issue)} is neither an object with "query", "headers", "cookies" and "body" nor a function`,
  }),
])

const operationName = text((value) => /^[\w.:/-]{1,100}$/.test(value), 'the name of an operation or a method')

const protocol = {
  protocol: option(
    oneOf(protocols),
    'What its bodies are: "graphql", of which queries are reusable, or "json-rpc", of which those methods are that `byName` gives a freshness. All others are writes. Default: none.',
  ),
  byName: option(
    z.record(operationName, z.strictObject({ ...rule, ...endpointLabels })),
    'What holds for some operations (GraphQL) or methods (JSON-RPC) otherwise than for the endpoint, by their names.',
  ),
  documents: option(
    z.record(z.string(), z.string()),
    'Texts of GraphQL documents by the ids or hashes that clients send in place of them.',
  ),
}

const endpoint = {
  ...rule,
  ...protocol,
  keyedBy: option(keyedBy, 'Which parts of a request distinguish its answer from others. Default: method, URL and body.'),
  ...endpointLabels,
  shared: option(yesOrNo, 'Whether callers with different credentials may share an answer.', false),
  per: option(
    part<(request: KeyedRequest) => string>('a function', isFunction),
    'Names the tenant of a call: calls of different ones share no answer.',
  ),
  safe: option(yesOrNo, 'Says that a POST only asks (RFC 9110 section 9.2.1), so that its answer may be reused.', false),
  targetedFields: option(
    fieldNames,
    'Fields that count before Cache-Control where the upstream is trusted, e.g. ["CDN-Cache-Control"] (RFC 9213).',
  ),
  fallback: option(fallback, 'What a caller gets where the upstream fails and no older answer may be given. Default: the failure itself.'),
  replaySetCookie: option(yesOrNo, 'Whether cookies that an answer sets are set again for later callers.', false),
  stream: option(
    yesOrNo,
    'Whether answers are handed on piece by piece as they come. Default: by media type (text/event-stream, application/x-ndjson, multipart/x-mixed-replace).',
  ),
  refusals: option(oneOf(refusals), "What refusals end in. Default: the provider's."),
  request: required(
    text(
      (value) => parseRequestTemplate(value) !== undefined,
      'a method and a path template, e.g. "GET /stations/{id}" or "GET /v2/*"',
      templateMistake,
    ),
    'Method and path template below the base URL, e.g. "GET /stations/{id}/tides?kind=spring" or "GET /v2/*".',
  ),
}

const quota = z.strictObject({
  calls: required(callCount, 'Calls allowed in a period.'),
  per: required(oneOf(calendarPeriods), 'The calendar period.'),
  zone: option(zone, 'IANA time zone whose calendar the period follows.', defaults.zone),
  remaining: option(
    z.strictObject({
      header: required(
        text((value) => value !== '', 'a name'),
        'Header field in which answers say how many calls are left.',
      ),
    }),
    'Where answers say how many calls are left. Default: what RateLimit or X-RateLimit fields say of a limit of as many calls.',
  ),
})

const columnName = text((value) => value !== '', 'the name of a column')

const usageExport = z.strictObject({
  day: option(columnName, 'Column of the day, YYYY-MM-DD.', 'day'),
  calls: option(columnName, 'Column of the number of billed calls. Default: "calls", unless only `amount` is given.'),
  amount: option(columnName, 'Column of what they cost, a decimal in the currency of the plan. Default: none.'),
  zone: option(zone, 'IANA time zone of the days. Default: that of the plan, else "UTC".'),
  decimal: option(oneOf(['point', 'comma'] as const), 'What numbers have before their decimals.', 'point'),
})

/** The shape of `ProviderOptions`. */
export const provider = z.strictObject({
  baseUrl: option(
    text(isBaseUrl, 'an absolute http or https URL without query, e.g. "https://tides.ebbline.example/v2"', baseUrlMistake),
    'Absolute http or https URL that all endpoints are below.',
  ),
  ignoreCase: option(
    yesOrNo,
    'Whether paths are matched without regard to case. Answers of URLs that are written differently are stored apart all the same.',
    false,
  ),
  timeout: option(timeout, 'How long one upstream call may take, where its endpoint does not say. A duration alone is the total.'),
  limits: option(listOf(limit), 'Limits of the provider on all calls together, of every process that shares the store.'),
  budgets: option(listOf(budget), 'How much may be spent in a period: { money: "50" } by the plan, or { calls: 3000 }.'),
  believeUpTo: option(
    duration,
    'How long a pause that the provider asks for is believed. Default: "1 hour" for Retry-After, else until the reset, never over 31 days.',
  ),
  refusals: option(oneOf(refusals), "What refusals end in. Default: the stash's."),
  queue: option(
    z.int({ error: noWhole }).check(z.minimum(0, { error: noWhole })),
    'How many calls may wait in one process for their turn.',
    defaults.queue,
  ),
  secretQuery: option(
    fieldNames,
    'Query parameters that carry a credential, besides the usual ones: none is written down, and callers with different ones share no answer.',
  ),
  secretHeaders: option(fieldNames, 'Header fields that carry a credential, besides the usual ones.'),
  notSecret: option(fieldNames, 'Names of parameters and fields that usually carry a credential, and carry none here.'),
  caller: option(
    part<(request: KeyedRequest) => string>('a function', isFunction),
    'Names who calls, where credentials do not, as with signatures: callers by other names share no answer. Default: by all credentials.',
  ),
  mode: option(oneOf(modes), "What is done with its calls, where that is not the stash's mode."),
  defaults: option(z.strictObject(rule), 'What holds for every endpoint and operation that does not say otherwise.'),
  plan: option(plan, 'What the provider charges.'),
  quota: option(quota, 'How many calls the provider allows in a period.'),
  usageExport: option(usageExport, 'How the usage export of the provider is read by `stashen reconcile`.'),
  endpoints: option(
    z.union([
      z.record(name, z.strictObject(endpoint)),
      listOf(z.strictObject({ name: required(name, 'Name of the endpoint.'), ...endpoint })),
    ]),
    'The endpoints of the provider: by name, or as a list with a name each.',
  ),
})

/** Credentials in it are not named. */
function baseUrlMistake(value: string): string | undefined {
  if (!URL.canParse(value)) return undefined
  const { username, password, hash } = new URL(value)
  if (username !== '' || password !== '') return 'was given with user or password: leave them out, and send them in a header field'
  return hash === '' ? undefined : 'has a fragment ("#"), which is never sent: leave it out'
}

function isBaseUrl(value: string): boolean {
  if (!URL.canParse(value)) return false
  const url = new URL(value)
  return /^https?:$/.test(url.protocol) && url.search === '' && url.hash === '' && url.username === '' && url.password === ''
}
