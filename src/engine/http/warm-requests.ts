import type { WarmSummary } from '../../core/entries/warm-summary.js'
import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import { countOf, type WarmOptions, warmTerms } from '../answer/warm-options.js'
import { type Warming, warm } from '../answer/warming.js'
import type { FetchHandler } from './fetch-handler.js'
import type { Fetch } from './http-upstream.js'
import type { WarmRequest } from './warm-request.js'

/** Fetches answers to requests in advance. */
export async function warmRequests(
  { http, warming }: { readonly http: FetchHandler; readonly warming: Warming },
  requests: Iterable<WarmRequest> | AsyncIterable<WarmRequest>,
  options: WarmOptions,
): Promise<WarmSummary> {
  const terms = warmTerms(options)
  if (typeof requests !== 'object' || requests === null || !(Symbol.iterator in requests || Symbol.asyncIterator in requests))
    throw new UsageError(`what to warm is ${shown(requests)}: give a list of requests`)
  async function* each() {
    for await (const request of requests) {
      const sent = asSent(request, options.headers)
      yield () => http.callOf(...sent)
    }
  }
  return warm(warming, { of: countOf(requests), each: each() }, terms)
}

function asSent(request: WarmRequest, more: WarmOptions['headers']): [input: Parameters<Fetch>[0], init: RequestInit | undefined] {
  if (request instanceof Request) {
    const all = new Headers(request.headers)
    for (const [name, value] of Object.entries(more ?? {})) all.set(name, value)
    return [new Request(request, { headers: all }), undefined]
  }
  if (typeof request === 'string' || request instanceof URL) return [request, more && { headers: more }]
  if (typeof request !== 'object' || request === null || typeof request.url !== 'string')
    throw new UsageError(`a request to warm is ${shown(request)}: give a URL, a Request, or an object with "url"`)
  const { url, method, headers, body } = request
  return [url, { ...(method !== undefined && { method }), headers: { ...more, ...headers }, ...(body !== undefined && { body }) }]
}
