import type { z } from 'zod'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { endpointPath } from './cross-checks.js'
import { optionNamesAt, withOurName } from './nearest-name.js'
import { received } from './schema-parts.js'

type ZodIssue = z.core.$ZodIssue

/** What an option looks like, for those who gave something of another kind; `*` stands for a member of it. */
const examples: Readonly<Record<string, string>> = {
  providers: '{ ebbline: { baseUrl: "https://tides.ebbline.example/v2", endpoints: { ... } } }',
  'providers.*': '{ baseUrl: "https://tides.ebbline.example/v2", endpoints: { ... } }',
  endpoints: '{ tides: { request: "GET /tides/{day}", freshFor: "1 hour" } }',
  'endpoints.*': '{ request: "GET /tides/{day}", freshFor: "1 hour" }',
  sets: '{ slow: { freshFor: "30 days" } }',
  'sets.*': '{ freshFor: "30 days" }',
  quota: '{ calls: 5000, per: "month" }',
  limits: '[{ calls: 30, per: "minute" }]',
  budgets: '[{ money: "50", per: "month" }]',
  plan: '{ currency: "EUR", perCall: "0.01" }',
  labels: '["tariff {id}"]',
  invalidates: '["tariff {id}"]',
  query: '["id"]',
  headers: '["accept-language"]',
  cookies: '["region"]',
  body: '["/query"]',
  freshUntil: '{ daily: "06:00", zone: "Europe/Oslo" }',
  freshForStatus: '{ 404: "1 min" }',
  sliding: '{ upTo: "1 day" }',
  fallback: '{ json: [] }',
  tiers: '[{ upTo: 1000, perCall: "0.01" }, { perCall: "0.004" }]',
  secretQuery: '["stamp"]',
  secretHeaders: '["x-crew-token"]',
  notSecret: '["key"]',
  statuses: '[403]',
  units: '{ tokens: { at: "/usage/tokens" } }',
  exchange: '{ currency: "EUR", rates: { NOK: "0.085" } }',
}

/** What is wrong with the shape of a value, in our own words. */
export function shapeFaults(schema: z.ZodType, value: unknown, under: string): ConfigFault[] {
  const { error } = schema.safeParse(value, { reportInput: true })
  return error ? error.issues.flatMap((issue) => faultsOfIssue(issue, schema, value, under)) : []
}

function faultsOfIssue(issue: ZodIssue, schema: z.ZodType, whole: unknown, under: string): ConfigFault[] {
  const path = [under, endpointPath(issue.path)].filter((part) => part !== '').join(': ')
  switch (issue.code) {
    case 'unrecognized_keys':
      return issue.keys.map((key) => ({
        path: [path, key].filter((part) => part !== '').join('.'),
        message: `is an unknown option${withOurName(key, optionNamesAt(schema, issue.path, whole))}`,
      }))
    case 'invalid_key':
      return [{ path, message: issue.issues[0]?.message ?? issue.message }]
    case 'invalid_union': {
      if (!isOfLibrary(issue)) return [{ path, message: told(issue) }]
      const nearest = nearestOption(issue.errors)
      if (nearest.length === 0) {
        const last = issue.errors.at(-1)?.[0]
        return [{ path, message: wrongKind(issue, last && isOfLibrary(last) ? undefined : last) }]
      }
      return nearest.flatMap((inner) => faultsOfIssue({ ...inner, path: [...issue.path, ...inner.path] }, schema, whole, under))
    }
    case 'invalid_type':
      return [{ path, message: isOfLibrary(issue) ? wrongKind(issue, issue) : told(issue) }]
    default:
      return [{ path, message: told(issue) }]
  }
}

const isOfLibrary = ({ message }: ZodIssue) => message.startsWith('Invalid input')

/** What is said of an issue; where nothing was given, that it is missing. */
function told({ message, input }: ZodIssue): string {
  if (input !== undefined) return message
  return message
    .replace(/^nothing is not /, 'is missing: it has to be ')
    .replace(/^nothing is neither (.*) nor /, 'is missing: it has to be $1 or ')
}

/** That a value is of another kind than its option takes, with an example of that. `inner`: what one of its alternatives says. */
function wrongKind(issue: ZodIssue, inner: ZodIssue | undefined): string {
  if (inner && !isOfLibrary(inner)) return told(inner)
  const names = issue.path.filter((step) => typeof step === 'string')
  const [last = '', before = ''] = [names.at(-1), names.at(-2)]
  const isMember = issue.path.at(-1) === last && Object.hasOwn(examples, `${before}.*`)
  const example = examples[isMember ? `${before}.*` : last]
  const noun = inner?.code === 'invalid_type' ? nounOf(inner.expected) : 'what this option takes'
  return told({ ...issue, message: `${received(issue)} is not ${noun}${example === undefined ? '' : `: write ${example}`}` })
}

/** The faults of the alternative that was most likely meant: of the right kind as a whole, and with the fewest faults in it. */
function nearestOption(alternatives: readonly (readonly ZodIssue[])[]): readonly ZodIssue[] {
  const rightKind = alternatives.filter((issues) => issues.every(({ code, path }) => path.length > 0 || code === 'unrecognized_keys'))
  return [...rightKind].sort((a, b) => a.length - b.length)[0] ?? []
}

function nounOf(expected: string): string {
  if (expected === 'object') return 'an object with options'
  if (expected === 'record') return 'an object of them by name'
  return `${/^[aeiou]/.test(expected) ? 'an' : 'a'} ${expected}`
}
