import type { AsyncLocalStorage } from 'node:async_hooks'
import type { ClientRequestInterceptor } from '@mswjs/interceptors/ClientRequest'
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

/** Answers calls of `node:http` and `node:https` through a stash, where one of its endpoints covers them; returns what undoes it. */
export function coverHttp(interceptor: ClientRequestInterceptor, stash: Stash, within: AsyncLocalStorage<true>): () => void {
  interceptor.apply()
  interceptor.on('request', async ({ request, controller }) => {
    const { method, url, headers } = request
    if (within.getStore() || headers.has('upgrade') || stash.covers(method, url) === undefined) return
    try {
      const body = request.body ? await request.arrayBuffer() : undefined
      const answer = await within.run(true, () =>
        stash.fetch(url, {
          method,
          headers: fieldsWithout(headers, ofConnection),
          redirect: 'manual',
          signal: request.signal,
          ...(body && { body }),
        }),
      )
      const isEmpty = method === 'HEAD' || answer.status === 204 || answer.status === 205 || answer.status === 304
      const fields = fieldsWithout(answer.headers, answer.headers.has('content-encoding') && !isEmpty ? ofTransfer : ofTransfer.slice(2))
      controller.respondWith(
        new Response(isEmpty ? null : answer.body, { status: answer.status, statusText: answer.statusText, headers: fields }),
      )
    } catch (error) {
      controller.errorWith(asNodeError(error))
    }
  })
  return () => interceptor.dispose()
}

function fieldsWithout(headers: Headers, names: readonly string[]): [string, string][] {
  return [...headers].filter(([name]) => !names.includes(name))
}

/** What a client of `node:http` expects where nothing was reached: the error of the connection, which `fetch` gives as the cause. */
function asNodeError(error: unknown): Error {
  const cause = error instanceof TypeError ? error.cause : undefined
  return cause instanceof Error ? cause : error instanceof Error ? error : new Error(String(error))
}
