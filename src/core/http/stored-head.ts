/** Where a freshness lifetime comes from. */
export type LifetimeSource = 's-maxage' | 'max-age' | 'Expires' | 'no-cache' | 'heuristic'

/** Header fields as name and value, repeated fields as pairs of their own. */
export type Fields = readonly (readonly [string, string])[]

/** What of an HTTP answer stands beside its body. */
export interface StoredHead {
  readonly status: number
  readonly statusText: string
  readonly fields: Fields
  /** The URL that answered in the end, where a redirect led to another than the asked one. */
  readonly url?: string | undefined
  /** What said how long it is fresh: the rule, or what of the upstream's fields. */
  readonly freshBy?: 'rule' | LifetimeSource
}

/** The first value of a field, which `Headers` gives as the list of all; undefined where there is none. */
export function fieldValue(fields: Fields, name: string): string | undefined {
  return fields.find(([one]) => one === name)?.[1]
}

/** Fields that belong to one connection (RFC 9110 section 7.6.1) and are not stored (RFC 9111 section 3.1). */
const connectionFields = [
  'connection',
  'keep-alive',
  'proxy-authenticate',
  'proxy-authentication-info',
  'proxy-authorization',
  'proxy-connection',
  'te',
  'transfer-encoding',
  'upgrade',
]

/**
 * The fields that may be given to another call: without those of the connection, those that are withheld, the age, and, unless
 * `withCookies`, cookies set for the first caller.
 */
export function reusableFields(fields: Fields, { withCookies = false, withheld = [] as readonly string[] } = {}): Fields {
  const named = fields.filter(([name]) => name === 'connection').flatMap(([, value]) => value.toLowerCase().split(/\s*,\s*/))
  return without(fields, [...connectionFields, ...named, ...(withCookies ? [] : ['set-cookie']), ...withheld, 'age'])
}

function without(fields: Fields, names: readonly string[]): Fields {
  return fields.filter(([name]) => !names.includes(name))
}
