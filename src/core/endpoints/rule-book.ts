import type { NearMiss } from '../decide/explanation.js'
import { normalisePercent } from '../rules/normalise-url.js'
import { differences, segmentsOf } from '../rules/request-template.js'
import type { Provider, RequestEndpoint } from './endpoint.js'
import { EndpointTree } from './endpoint-tree.js'

/** What covers a request: an endpoint, only its provider, or nothing. */
export interface Match {
  readonly provider?: Provider | undefined
  readonly endpoint?: RequestEndpoint | undefined
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

  /** HEAD asks for what GET would answer, so it is covered by what covers GET unless an endpoint is for HEAD itself. */
  match(method: string, url: URL): Match {
    const { segments, chapters } = this.#covering(url)
    for (const { provider, base, byMethod } of chapters) {
      const endpoint =
        byMethod.get(method)?.find(segments, base.length, url) ??
        (method === 'HEAD' ? byMethod.get('GET')?.find(segments, base.length, url) : undefined)
      if (endpoint) return { provider, endpoint }
    }
    return chapters[0] ? { provider: chapters[0].provider } : {}
  }

  /** The endpoints that cover all of a request but for one thing. */
  nearMisses(method: string, url: URL): NearMiss[] {
    const { segments, chapters } = this.#covering(url)
    return chapters.flatMap(({ provider, base }) =>
      provider.endpoints.flatMap(({ name, template }) => {
        if (Math.abs(template.path.length - (segments.length - base.length)) > 1) return []
        const [difference, ...more] = differences(template, method, segments.slice(base.length), url.searchParams)
        return difference === undefined || more.length > 0 ? [] : [{ provider: provider.name, endpoint: name, difference }]
      }),
    )
  }

  #covering(url: URL): { segments: readonly string[]; chapters: readonly Chapter[] } {
    const chapters = this.#byOrigin.get(url.origin)
    if (!chapters) return { segments: [], chapters: [] }
    const segments = segmentsOf(normalisePercent(url.pathname))
    const covers = ({ base }: Chapter) => base.every((segment, i) => segment === segments[i])
    const [only] = chapters
    return { segments, chapters: chapters.length === 1 && only && covers(only) ? chapters : chapters.filter(covers) }
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
