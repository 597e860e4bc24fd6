import { parseCacheControl } from './cache-directives.js'

/** The `cache` option of fetch (Fetch Standard, "cache mode"). */
export type CacheOption = 'default' | 'no-store' | 'reload' | 'no-cache' | 'force-cache' | 'only-if-cached'

/** What a request says about using stored answers. Durations are milliseconds. */
export interface RequestDirectives {
  /** Neither use what is stored nor store the answer. */
  readonly noStore: boolean
  /** Ask upstream, whatever is stored: `reload` for an answer of its own, `revalidate` where asking whether the stored one holds will do. */
  readonly ask: 'reload' | 'revalidate' | undefined
  /** Use what is stored, whatever its age. */
  readonly anyAge: boolean
  /** Ask nobody: give what is stored, else a 504 (`status`) or an error. */
  readonly storedOnly: 'status' | 'error' | undefined
  readonly maxAgeMs: number | undefined
  readonly minFreshMs: number | undefined
  /** How long past its freshness an answer may be; infinite where the request sets no limit. */
  readonly maxStaleMs: number | undefined
  /** How long past its freshness it may be if the refresh fails (RFC 5861 section 4). */
  readonly staleIfErrorMs: number | undefined
}

export const noDirectives: RequestDirectives = {
  noStore: false,
  ask: undefined,
  anyAge: false,
  storedOnly: undefined,
  maxAgeMs: undefined,
  minFreshMs: undefined,
  maxStaleMs: undefined,
  staleIfErrorMs: undefined,
}

/**
 * The directives of a request, by its `Cache-Control` (RFC 9111 section 5.2.1), by `Pragma` where it has none (section 5.4), and by the
 * `cache` option of fetch.
 */
export function requestDirectives(cacheControl: string | null, pragma: string | null, option: CacheOption | undefined): RequestDirectives {
  if (cacheControl === null && pragma === null && (option === undefined || option === 'default')) return noDirectives
  const said = parseCacheControl(cacheControl ?? pragma?.match(/\bno-cache\b/i)?.[0])
  const check = said.has('no-cache') || option === 'no-cache'
  return {
    noStore: said.has('no-store') || option === 'no-store',
    ask: option === 'reload' ? 'reload' : check ? 'revalidate' : undefined,
    anyAge: option === 'force-cache' || option === 'only-if-cached',
    storedOnly: option === 'only-if-cached' ? 'error' : said.has('only-if-cached') ? 'status' : undefined,
    maxAgeMs: said.ms('max-age'),
    minFreshMs: said.ms('min-fresh'),
    maxStaleMs: said.hasArgument('max-stale') ? said.ms('max-stale') : said.has('max-stale') ? Number.POSITIVE_INFINITY : undefined,
    staleIfErrorMs: said.ms('stale-if-error'),
  }
}
