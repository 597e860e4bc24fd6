import type { AsyncLocalStorage } from 'node:async_hooks'
import type { ClientRequestInterceptor } from '@mswjs/interceptors/ClientRequest'
import { isStashenError } from '../core/errors/stashen-error.js'
import type { Stash } from '../stash.js'

/** Fields of a request that are those of its connection, and that `fetch` sets itself (RFC 9110 section 7.6.1). */
const ofConnection = [
  'connection',
  'keep-alive',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
  'content-length',
  'host',
  'expect',
]

/** Fields of an answer that say how its body came, which is decoded by now. */
const ofTransfer = ['content-encoding', 'content-length', 'transfer-encoding', 'connection', 'keep-alive']

/** The one interceptor of this process: a second one would take the first for its own. */
let shared: ClientRequestInterceptor | undefined
let users = 0

/** Answers calls of `node:http` and `node:https` through a stash, where one of its endpoints covers them; returns what undoes it. */
export function coverHttp(Interceptor: new () => ClientRequestInterceptor, stash: Stash, within: AsyncLocalStorage<true>): () => void {
  const interceptor = shared ?? new Interceptor()
  shared = interceptor
  if (users++ === 0) interceptor.apply()
  const answer = async ({ request, controller }: RequestEvent) => {
    const { method, url, headers } = request
    if (within.getStore() || headers.has('upgrade') || stash.covers(method, url) === undefined) return
    try {
      controller.respondWith(await answered(request, stash, within))
    } catch (error) {
      if (!isClosed(error)) controller.errorWith(asNodeError(error))
    }
  }
  interceptor.on('request', answer)
  return () => {
    interceptor.off('request', answer)
    if (--users > 0) return
    interceptor.dispose()
    shared = undefined
  }
}

interface RequestEvent {
  readonly request: Request
  readonly controller: { respondWith(response: Response): unknown; errorWith(error: Error): unknown }
}

/** The stash's answer to a request, as `node:http` knows it: redirects are not followed, and no field speaks of how its body came. */
async function answered(request: Request, stash: Stash, within: AsyncLocalStorage<true>): Promise<Response> {
  const { method, url, headers, signal } = request
  const body = request.body ? await request.arrayBuffer() : undefined
  const init = { method, headers: fieldsWithout(headers, ofConnection), redirect: 'manual', signal, ...(body && { body }) } as const
  const answer = await within.run(true, () => stash.fetch(url, init))
  const { status, statusText } = answer
  const isEmpty = method === 'HEAD' || status === 204 || status === 205 || status === 304
  const isDecoded = answer.headers.has('content-encoding') && !isEmpty
  const fields = fieldsWithout(answer.headers, isDecoded ? ofTransfer : ofTransfer.slice(2))
  return new Response(isEmpty ? null : answer.body, { status, statusText, headers: fields })
}

/** Whether a call was not begun because the stash is closed. */
export function isClosed(error: unknown): boolean {
  return isStashenError(error) && error.code === 'STASH_CLOSED' && error.provider === undefined
}

function fieldsWithout(headers: Headers, names: readonly string[]): [string, string][] {
  return [...headers].filter(([name]) => !names.includes(name))
}

/** What a client of `node:http` expects where nothing was reached: the error of the connection, which `fetch` gives as the cause. */
function asNodeError(error: unknown): Error {
  const cause = error instanceof TypeError ? error.cause : undefined
  return cause instanceof Error ? cause : error instanceof Error ? error : new Error(String(error))
}
