import leven from 'leven'
import * as z from 'zod/mini'

/** `: did you mean "x"?` with the nearest of the known names, else nothing. */
export function withNearest(given: string, known: readonly string[]): string {
  const [nearest] = [...known].sort((a, b) => distance(given, a) - distance(given, b))
  return nearest !== undefined && distance(given, nearest) <= Math.max(2, given.length / 3) ? `: did you mean "${nearest}"?` : ''
}

/** What options are called elsewhere, in lower case, by what they are called here. */
const otherWords: Readonly<Record<string, readonly string[]>> = {
  freshFor: ['ttl', 'timetolive', 'maxage', 'smaxage', 'expires', 'expiresin', 'expiry', 'expiration', 'lifetime'],
  staleIfError: ['stalefor', 'fallbackfor'],
  staleWhileRevalidate: ['revalidate', 'revalidateafter'],
  keyedBy: ['key', 'cachekey', 'keyby', 'vary', 'varyby'],
  request: ['path', 'route', 'pattern', 'url', 'match', 'method'],
  baseUrl: ['url', 'host', 'origin'],
  endpoints: ['routes', 'paths', 'rules', 'resources'],
  providers: ['apis', 'services', 'upstreams', 'hosts'],
  limits: ['ratelimit', 'ratelimits', 'throttle', 'throttling', 'rate', 'concurrency', 'maxconcurrency'],
  quota: ['monthlyquota', 'allowance', 'maxcalls'],
  retries: ['retry', 'maxretries', 'attempts', 'maxattempts', 'backoff'],
  holdOff: ['circuitbreaker', 'breaker', 'cooldown'],
  labels: ['tags', 'tag', 'groups'],
  plan: ['price', 'pricing', 'cost', 'costs', 'tariff'],
  perCall: ['price', 'cost', 'costpercall', 'pricepercall'],
  store: ['cache', 'storage', 'backend', 'redis', 'database'],
  maxBodyBytes: ['maxsize', 'maxbytes', 'maxlength', 'sizelimit'],
  collapse: ['deduplicate', 'coalesce'],
  shared: ['public', 'private', 'scope'],
  freshForStatus: ['statuscodes', 'statuses'],
}

/** `: it is called "x" here` where an option is known by another word; else as `withNearest`, or a list of them where they are few. */
export function withOurName(given: string, known: readonly string[]): string {
  const plain = given.toLowerCase().replaceAll(/[^a-z0-9]/g, '')
  const ours = known.find((name) => Object.hasOwn(otherWords, name) && otherWords[name]?.includes(plain))
  if (ours !== undefined) return `: it is called "${ours}" here`
  const nearest = withNearest(given, known)
  return nearest === '' && known.length > 0 && known.length <= fewOptions ? `: there are ${known.join(', ')}` : nearest
}

/** So many options are listed where none is near to one that there is not. */
const fewOptions = 8

function distance(one: string, other: string): number {
  return leven(one.toLowerCase(), other.toLowerCase())
}

/** The option names that a schema knows at a path. */
export function optionNamesAt(schema: unknown, path: readonly PropertyKey[], value: unknown): string[] {
  if (schema instanceof z.ZodMiniOptional || schema instanceof z.ZodMiniReadonly) return optionNamesAt(schema.def.innerType, path, value)
  if (schema instanceof z.ZodMiniUnion) return optionNamesAt(schema.def.options[Array.isArray(value) ? 1 : 0], path, value)
  const [step, ...rest] = path
  if (step === undefined) return schema instanceof z.ZodMiniObject ? Object.keys(schema.shape) : []
  const inner = (value as Record<PropertyKey, unknown> | undefined)?.[step]
  if (schema instanceof z.ZodMiniObject) return optionNamesAt(schema.shape[step as string], rest, inner)
  if (schema instanceof z.ZodMiniRecord) return optionNamesAt(schema.def.valueType, rest, inner)
  if (schema instanceof z.ZodMiniArray) return optionNamesAt(schema.def.element, rest, inner)
  return []
}
