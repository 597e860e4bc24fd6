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
      const its = provider.ignoresCase ? lowered(segments) : segments
      const endpoint =
        byMethod.get(method)?.find(its, base.length, url) ??
        (method === 'HEAD' ? byMethod.get('GET')?.find(its, base.length, url) : undefined)
      if (endpoint) return { provider, endpoint }
    }
    return chapters[0] ? { provider: chapters[0].provider } : {}
  }

  /** The endpoints that cover all of a request but for one thing. */
  nearMisses(method: string, url: URL): NearMiss[] {
    const written = segmentsOf(normalisePercent(url.pathname))
    return [...this.#byOrigin.values()].flat().flatMap(({ provider, base }) => {
      const segments = provider.ignoresCase ? lowered(written) : written
      const covers = base.every((segment, i) => segment === segments[i])
      const before = [
        ...originDifferences(url, provider.base?.origin ?? url.origin),
        ...(covers ? [] : [`path does not begin with "/${base.join('/')}" of the base URL`]),
      ]
      if (before.length > 1) return []
      const below = covers ? segments.slice(base.length) : segments
      return provider.endpoints.flatMap(({ name, template }) => {
        if (Math.abs(template.path.length - below.length) > 1) return []
        const [difference, ...more] = [...before, ...differences(template, method, below, url.searchParams)]
        return difference === undefined || more.length > 0 ? [] : [{ provider: provider.name, endpoint: name, difference }]
      })
    })
  }

  #covering(url: URL): { segments: readonly string[]; chapters: readonly Chapter[] } {
    const chapters = this.#byOrigin.get(url.origin)
    if (!chapters) return { segments: [], chapters: [] }
    const segments = segmentsOf(normalisePercent(url.pathname))
    const covers = ({ base, provider }: Chapter) => {
      const its = provider.ignoresCase ? lowered(segments) : segments
      return base.every((segment, i) => segment === its[i])
    }
    const [only] = chapters
    return { segments, chapters: chapters.length === 1 && only && covers(only) ? chapters : chapters.filter(covers) }
  }
}

function lowered(segments: readonly string[]): string[] {
  return segments.map((segment) => segment.toLowerCase())
}

/** In what a URL differs from an origin; hosts of other domains are not near. */
function originDifferences(url: URL, origin: string): string[] {
  const { protocol, hostname, port } = new URL(origin)
  const domain = (host: string) => host.split('.').slice(-2).join('.')
  const schemes = url.protocol === protocol ? [] : [`scheme is ${url.protocol.slice(0, -1)}, not ${protocol.slice(0, -1)}`]
  const ports = url.port === port ? [] : [`port is ${url.port || 'the usual one'}, not ${port || 'the usual one'}`]
  if (url.hostname === hostname) return [...schemes, ...ports]
  const isNear = domain(url.hostname) === domain(hostname)
  return [`host is ${url.hostname}, not ${hostname}`, ...(isNear ? [] : ['another domain']), ...schemes, ...ports]
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
