import type { Provider, RequestEndpoint } from './endpoint.js'
import { EndpointTree } from './endpoint-tree.js'
import { normalisePercent } from './normalise-url.js'
import { segmentsOf } from './request-template.js'

/** What covers a request: an endpoint, only its provider, or nothing. */
export interface Match {
  readonly provider?: Provider
  readonly endpoint?: RequestEndpoint
}

interface Chapter {
  readonly provider: Provider
  readonly base: readonly string[]
  readonly byMethod: ReadonlyMap<string, EndpointTree>
}

/** All providers, by origin; where the base URLs of several cover a request, the longest is asked first. */
export class RuleBook {
  readonly #byOrigin = new Map<string, Chapter[]>()

  constructor(providers: readonly Provider[]) {
    for (const provider of providers) {
      if (!provider.base) continue
      const chapters = this.#byOrigin.get(provider.base.origin) ?? []
      chapters.push({ provider, base: provider.base.segments, byMethod: treesOf(provider.endpoints) })
      chapters.sort((a, b) => b.base.length - a.base.length)
      this.#byOrigin.set(provider.base.origin, chapters)
    }
  }

  match(method: string, url: URL): Match {
    const chapters = this.#byOrigin.get(url.origin)
    if (!chapters) return {}
    const segments = segmentsOf(normalisePercent(url.pathname))
    const covering = chapters.filter(({ base }) => base.every((segment, i) => segment === segments[i]))
    for (const { provider, base, byMethod } of covering) {
      const endpoint = byMethod.get(method)?.find(segments, base.length, url.searchParams)
      if (endpoint) return { provider, endpoint }
    }
    return covering[0] ? { provider: covering[0].provider } : {}
  }
}

function treesOf(endpoints: readonly RequestEndpoint[]): ReadonlyMap<string, EndpointTree> {
  const trees = new Map<string, EndpointTree>()
  for (const endpoint of endpoints) {
    const tree = trees.get(endpoint.template.method) ?? new EndpointTree()
    tree.add(endpoint)
    trees.set(endpoint.template.method, tree)
  }
  return trees
}
