import type { Provider, RequestEndpoint } from './endpoint.js'
import { pathMatches, segmentsOf } from './path-template.js'

/** What covers a request: an endpoint, only its provider, or nothing. */
export interface Match {
  readonly provider?: Provider
  readonly endpoint?: RequestEndpoint
}

/** Finds the most specific endpoint that covers a request. Where two providers' base URLs do, the longer one is asked first. */
export function matchRequest(providers: readonly Provider[], method: string, url: URL): Match {
  const segments = segmentsOf(url.pathname)
  const candidates = providers
    .filter(({ base }) => base?.origin === url.origin && base.segments.every((segment, i) => segment === segments[i]))
    .sort((a, b) => (b.base?.segments.length ?? 0) - (a.base?.segments.length ?? 0))
  for (const provider of candidates) {
    const below = segments.slice(provider.base?.segments.length)
    const endpoint = provider.endpoints.find((one) => one.method === method && pathMatches(one.path, below))
    if (endpoint) return { provider, endpoint }
  }
  const [provider] = candidates
  return provider ? { provider } : {}
}
