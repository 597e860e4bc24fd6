import { digestOf } from './digest.js'
import type { Provider } from './endpoint.js'

/** The parts of a request that tell its answer from others. */
export interface KeyedRequest {
  readonly method: string
  readonly url: URL
  /** The value of a header field, or null. */
  header(name: string): string | null
}

/**
 * The key of a request: method and normalised URL, without its fragment and with the query's parameters in the order of their
 * names. Credentials stand in it only as a one-way digest, which keeps callers with different ones apart.
 */
export function requestKey(provider: Provider, request: KeyedRequest): string {
  const { url } = request
  const secrets: string[] = []
  const parameters: string[] = []
  for (const parameter of url.search === '' ? [] : url.search.slice(1).split('&')) {
    const name = nameOf(parameter)
    if (provider.secretQuery.has(decoded(name))) secrets.push(`?${parameter}`)
    else if (parameter !== '') parameters.push(parameter)
  }
  parameters.sort((a, b) => (nameOf(a) < nameOf(b) ? -1 : nameOf(a) > nameOf(b) ? 1 : 0))
  for (const field of provider.callerHeaders) {
    const value = request.header(field)
    if (value !== null) secrets.push(`${field}: ${value}`)
  }
  const query = parameters.length > 0 ? `?${parameters.join('&')}` : ''
  const caller = secrets.length > 0 ? ` caller:${digestOf(JSON.stringify(secrets))}` : ''
  return `${request.method} ${url.origin}${url.pathname}${query}${caller}`
}

function nameOf(parameter: string): string {
  const end = parameter.indexOf('=')
  return end < 0 ? parameter : parameter.slice(0, end)
}

function decoded(name: string): string {
  try {
    return decodeURIComponent(name.replaceAll('+', ' '))
  } catch {
    return name
  }
}
