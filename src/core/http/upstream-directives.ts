import { dateOf } from './age.js'
import { type CacheDirectives, directivesOf } from './cache-directives.js'
import { parseHttpDate } from './http-date.js'
import { type Fields, fieldValue, type LifetimeSource } from './stored-head.js'

/** What of an exchange matters for what its answer's fields allow. */
export interface Answered {
  readonly status: number
  readonly fields: Fields
  readonly answeredAt: number
  /** Whether the request carried `Authorization`. */
  readonly authorized: boolean
}

/** As which kind of cache an endpoint's answers are kept, and which targeted fields speak to it (RFC 9213). */
export interface Audience {
  readonly shared: boolean
  readonly targets: readonly string[]
}

/** What an upstream says of reusing its answer. Durations are milliseconds. */
export interface UpstreamDirectives {
  /** Why the answer must not be stored (RFC 9111 section 3), if so. */
  readonly forbidden: 'no-store' | 'not-understood' | 'private' | 'authorization' | 'status' | undefined
  /** The lifetime that it says; undefined where it says none. */
  readonly lifetimeMs: number | undefined
  /** The lifetime to guess where nothing else is known (RFC 9111 section 4.2.2); undefined where none may be guessed. */
  readonly guessedMs: number | undefined
  readonly source: LifetimeSource
  /** Whether the answer must not be used once it is stale (RFC 9111 section 5.2.2.2). */
  readonly mustRevalidate: boolean
  readonly staleWhileRevalidateMs: number | undefined
  readonly staleIfErrorMs: number | undefined
  /** Fields that are not for other calls (`private` and `no-cache` with field names). */
  readonly withheld: readonly string[]
}

/** Statuses whose answers may be kept without a stated lifetime (RFC 9110 section 15.1). A 206 never is kept here. */
const guessable = [200, 203, 204, 300, 301, 308, 404, 405, 410, 414, 501]

/** Statuses whose caching rules are known and followed, which `must-understand` asks for (RFC 9111 section 5.2.2.3). */
const understood = [
  ...guessable,
  201,
  202,
  205,
  302,
  303,
  307,
  400,
  401,
  403,
  406,
  408,
  409,
  411,
  413,
  415,
  421,
  422,
  500,
  502,
  503,
  504,
  505,
]

/** The longest lifetime that is guessed, milliseconds. */
const longestGuess = 86_400_000

/** What the fields of an answer say about reusing it, to a private or a shared cache. */
export function upstreamDirectives(answered: Answered, audience: Audience): UpstreamDirectives {
  const { directives, targeted } = directivesOf(answered.fields, audience.targets)
  const { shared } = audience
  const noCache = directives.has('no-cache') && directives.fieldNames('no-cache').length === 0
  const [lifetimeMs, source] = noCache ? ([0, 'no-cache'] as const) : lifetimeOf(answered, directives, shared, targeted)
  return {
    forbidden: forbidden(answered, directives, shared, lifetimeMs !== undefined),
    lifetimeMs,
    guessedMs: guessedMs(answered, directives),
    source,
    mustRevalidate:
      noCache || directives.has('must-revalidate') || (shared && (directives.has('proxy-revalidate') || directives.has('s-maxage'))),
    staleWhileRevalidateMs: directives.ms('stale-while-revalidate'),
    staleIfErrorMs: directives.ms('stale-if-error'),
    withheld: [...directives.fieldNames('no-cache'), ...(shared ? directives.fieldNames('private') : [])],
  }
}

/** Why RFC 9111 section 3 forbids to store an answer. */
function forbidden(
  { status, authorized }: Answered,
  directives: CacheDirectives,
  shared: boolean,
  explicit: boolean,
): UpstreamDirectives['forbidden'] {
  if (directives.has('must-understand')) {
    if (!understood.includes(status)) return 'not-understood'
  } else if (directives.has('no-store')) return 'no-store'
  if (shared && directives.has('private') && directives.fieldNames('private').length === 0) return 'private'
  const letsShare = ['public', 's-maxage', 'must-revalidate'].some((name) => directives.has(name))
  if (shared && authorized && !letsShare) return 'authorization' // RFC 9111 section 3.5
  const allows = explicit || directives.has('public') || (!shared && directives.has('private')) || guessable.includes(status)
  return allows ? undefined : 'status'
}

/** The stated lifetime (RFC 9111 section 4.2.1). */
function lifetimeOf(
  { fields, answeredAt }: Answered,
  directives: CacheDirectives,
  shared: boolean,
  targeted: boolean,
): [number | undefined, LifetimeSource] {
  const sharedMs = shared ? directives.ms('s-maxage') : undefined
  if (sharedMs !== undefined) return [sharedMs, 's-maxage']
  const maxAgeMs = directives.ms('max-age')
  if (maxAgeMs !== undefined) return [maxAgeMs, 'max-age']
  const expires = targeted ? undefined : fieldValue(fields, 'expires')
  if (expires === undefined) return [undefined, 'heuristic']
  const at = parseHttpDate(expires, answeredAt)
  return [at === undefined ? 0 : Math.max(0, at - dateOf(fields, answeredAt)), 'Expires']
}

/** A tenth of the time since the answer last changed (RFC 9111 section 4.2.2). */
function guessedMs({ status, fields, answeredAt }: Answered, directives: CacheDirectives): number | undefined {
  const modified = parseHttpDate(fieldValue(fields, 'last-modified'), answeredAt)
  if (modified === undefined || !(guessable.includes(status) || directives.has('public'))) return undefined
  return Math.min(longestGuess, Math.max(0, Math.floor((dateOf(fields, answeredAt) - modified) / 10)))
}
