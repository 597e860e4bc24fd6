import { subscribe, unsubscribe } from 'node:diagnostics_channel'
import { ownInit } from '../engine/http/request-snapshot.js'
import { type SentBy, sentBy, sentByOf } from '../engine/http/sent-by.js'
import { onHttp2Connection } from '../measure/http2-connections.js'
import type { Stash } from '../stash.js'
import { coverHttp, isClosed } from './cover-http.js'
import { isOwnCall, ownCall } from './own-calls.js'

/** What of a program is covered. */
export interface CoverOptions {
  /** The global `fetch`. Default true. */
  readonly fetch?: boolean
  /** Calls of `node:http` and `node:https`, and of all that is made on them, such as axios and got. Default true. */
  readonly http?: boolean
  /** Told once for each host of calls that an endpoint covers and that went by all the same. Default: `console.warn`. */
  readonly warn?: (message: string) => void
}

/**
 * Has a whole program's calls go through a stash, unmodified: those that one of its endpoints covers are answered as its rules say, all others go by
 * untouched. Calls that leave for the stash itself are not covered again, and none are once the stash is closed. Those of `node:http` leave by their own agent and
 * options. Returns what undoes it.
 *
 * ```ts
 * const uncover = await coverGlobally(stash)
 * ```
 */
export async function coverGlobally(stash: Stash, { fetch = true, http = true, warn }: CoverOptions = {}): Promise<() => void> {
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
  if (http) undo.push(coverHttp(stash))
  const own: OwnRequests = { underWay: 0 }
  if (fetch) undo.push(coverFetch(stash, own))
  undo.push(watchUndici(own, uncovered))
  undo.push(onHttp2Connection((origin) => uncovered('GET', `${origin}/`, 'through node:http2')))
  return () => {
    for (const one of undo.splice(0).reverse()) one()
  }
}

function coverFetch(stash: Stash, own: OwnRequests): () => void {
  const before = globalThis.fetch
  const sends: SentBy = async (send, isGiven, input, init) => {
    own.underWay++
    try {
      return await (isGiven ? ownCall(() => send(input, init)) : send(input, init))
    } finally {
      own.underWay--
    }
  }
  const covering: typeof fetch = async (input, init) => {
    if (sentByOf(init) || isOwnCall()) return before(input, init)
    try {
      return await stash.fetch(input, { ...(init && ownInit(init)), [sentBy]: sends } as RequestInit)
    } catch (error) {
      if (isClosed(error)) return before(input, init)
      throw error
    }
  }
  globalThis.fetch = covering
  return () => {
    if (globalThis.fetch === covering) globalThis.fetch = before
  }
}

/** How many requests are under way for a stash: which of them a request of undici is cannot be said for certain, for a redirect leads elsewhere. */
interface OwnRequests {
  underWay: number
}

type Uncovered = (method: string, url: string, how: string) => void

/** Notices calls of the package undici, and of a `fetch` that was taken before it was covered. */
function watchUndici(own: OwnRequests, uncovered: Uncovered): () => void {
  const notice = (message: unknown) => {
    if (own.underWay > 0) return
    const { origin = '', path, method } = (message as { request: { origin?: string | URL; path: string; method: string } }).request
    uncovered(method, `${String(origin).replace(/\/$/, '')}${path}`, 'through undici, or a fetch taken before it was covered')
  }
  subscribe('undici:request:create', notice)
  return () => void unsubscribe('undici:request:create', notice)
}
