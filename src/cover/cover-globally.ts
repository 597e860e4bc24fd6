import { AsyncLocalStorage } from 'node:async_hooks'
import { subscribe, unsubscribe } from 'node:diagnostics_channel'
import { MissingPackageError } from '../core/errors/setup-errors.js'
import { onHttp2Connection } from '../measure/http2-connections.js'
import type { Stash } from '../stash.js'
import { coverHttp, isClosed } from './cover-http.js'

/** What of a program is covered. */
export interface CoverOptions {
  /** The global `fetch`. Default true. */
  readonly fetch?: boolean
  /**
   * Calls of `node:http` and `node:https`, and of all that is made on them, such as axios and got. Needs the package `@mswjs/interceptors`. Default true;
   * `'if-possible'`: only where that is installed.
   */
  readonly http?: boolean | 'if-possible'
  /** Told once for each host of calls that an endpoint covers and that went by all the same. Default: `console.warn`. */
  readonly warn?: (message: string) => void
}

/**
 * Has a whole program's calls go through a stash, unmodified: those that one of its endpoints covers are answered as its rules say, all others go by
 * untouched. Calls that leave for the stash itself are not covered again, and none are once the stash is closed. Returns what undoes it. Rejects with code `PACKAGE_MISSING` where
 * `@mswjs/interceptors` is needed and not installed.
 *
 * ```ts
 * const uncover = await coverGlobally(stash)
 * ```
 */
export async function coverGlobally(stash: Stash, { fetch = true, http = true, warn }: CoverOptions = {}): Promise<() => void> {
  const within = new AsyncLocalStorage<true>()
  const tell = warn ?? ((message: string) => console.warn(`stashen: ${message}`))
  const told = new Set<string>()
  const uncovered = (method: string, url: string, how: string) => {
    const endpoint = stash.covers(method, url)
    const host = URL.canParse(url) ? new URL(url).host : url
    if (endpoint === undefined || told.has(`${host} ${how}`)) return
    told.add(`${host} ${how}`)
    tell(`calls to ${host} went ${how}, which is not covered: they are neither reused nor counted`)
  }
  const undo: (() => void)[] = []
  if (http !== false) {
    const interceptors = await import('@mswjs/interceptors/ClientRequest').catch((cause: { code?: string }) => {
      if (cause.code !== 'ERR_MODULE_NOT_FOUND') throw cause
      if (http === true) throw new MissingPackageError('@mswjs/interceptors', 'covering node:http', { cause })
      return undefined
    })
    if (interceptors) undo.push(coverHttp(interceptors.ClientRequestInterceptor, stash, within))
    else tell('node:http is not covered, and what is made on it: run "npm install @mswjs/interceptors" for that')
  }
  if (fetch) undo.push(coverFetch(stash, within))
  undo.push(watchUndici(within, uncovered))
  undo.push(onHttp2Connection((origin) => uncovered('GET', `${origin}/`, 'through node:http2')))
  return () => {
    for (const one of undo.splice(0).reverse()) one()
  }
}

function coverFetch(stash: Stash, within: AsyncLocalStorage<true>): () => void {
  const before = globalThis.fetch
  const covering: typeof fetch = async (...request) => {
    if (within.getStore()) return before(...request)
    try {
      return await within.run(true, () => stash.fetch(...request))
    } catch (error) {
      if (isClosed(error)) return before(...request)
      throw error
    }
  }
  globalThis.fetch = covering
  return () => {
    if (globalThis.fetch === covering) globalThis.fetch = before
  }
}

type Uncovered = (method: string, url: string, how: string) => void

/** Notices calls of the package undici, and of a `fetch` that was taken before it was covered. */
function watchUndici(within: AsyncLocalStorage<true>, uncovered: Uncovered): () => void {
  const notice = (message: unknown) => {
    if (within.getStore()) return
    const { origin = '', path, method } = (message as { request: { origin?: string | URL; path: string; method: string } }).request
    uncovered(method, `${String(origin).replace(/\/$/, '')}${path}`, 'through undici, or a fetch taken before it was covered')
  }
  subscribe('undici:request:create', notice)
  return () => void unsubscribe('undici:request:create', notice)
}
