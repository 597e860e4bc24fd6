import { Document, type Pair, type Scalar, type YAMLMap } from 'yaml'
import type { Protocol } from '../core/protocols/protocol.js'
import { parseRequestTemplate } from '../core/rules/request-template.js'
import type { EndpointSummary, ProviderSummary, TrafficSummary } from '../core/traffic/summary.js'
import type { WhatIf } from '../core/traffic/what-if.js'

interface StarterEndpoint {
  readonly request: string
  readonly protocol?: Protocol
  readonly freshFor?: string
}

/** A configuration for what was seen: it measures, and reuses nothing until its mode says so. */
export interface StarterConfig {
  readonly mode: 'measure'
  readonly providers: Readonly<Record<string, { readonly baseUrl: string; readonly endpoints: Readonly<Record<string, StarterEndpoint>> }>>
}

export function starterConfig({ providers }: Pick<TrafficSummary, 'providers'>): StarterConfig {
  const endpointsOf = (provider: ProviderSummary) =>
    writable(provider).map(({ name, request, protocol, fitting }): [string, StarterEndpoint] => [
      name,
      { request, ...(protocol && { protocol }), ...(fitting && { freshFor: fitting.lifetime }) },
    ])
  return {
    mode: 'measure',
    providers: Object.fromEntries(
      providers.map((provider) => [provider.name, { baseUrl: provider.baseUrl, endpoints: Object.fromEntries(endpointsOf(provider)) }]),
    ),
  }
}

/** The same as a file to go on with, which says of each endpoint what was seen. */
export function starterYaml(summary: TrafficSummary): string {
  const document = new Document(starterConfig(summary))
  document.commentBefore = [
    ' Written by "stashen measure" from what it saw: read the lifetimes, and see "stashen check".',
    ' Nothing is reused until "mode" says "reuse"; until then reports say what that would save.',
  ].join('\n')
  for (const provider of summary.providers)
    for (const endpoint of writable(provider)) {
      const map = document.getIn(['providers', provider.name, 'endpoints'], true) as YAMLMap
      const pair = map.items.find(({ key }) => (key as Scalar).value === endpoint.name) as Pair<Scalar, YAMLMap>
      pair.key.commentBefore = [seenOf(endpoint), ...operationsOf(endpoint)].map((line) => ` ${line}`).join('\n')
    }
  return document.toString({ lineWidth: 0 })
}

/** Those that a rule can be for: not those of methods that are no plain word. */
function writable({ endpoints }: ProviderSummary): readonly EndpointSummary[] {
  return endpoints.filter(({ request }) => parseRequestTemplate(request) !== undefined)
}

/** What is to be named of the methods of JSON-RPC, none of which is reused by itself. */
function operationsOf({ protocol, operations }: EndpointSummary): string[] {
  const again = operations.filter(({ repeats }) => repeats > 0)
  if (protocol !== 'json-rpc' || again.length === 0) return []
  return [
    'give those of its methods a freshness that only ask, e.g. byName: { eth_chainId: { freshFor: 1 day } }; they repeated:',
    ...again.map(({ name, repeats, same }) => `  ${name}: ${repeats} times, ${same} with the same answer as before`),
  ]
}

function seenOf({ calls, repeats, same, whatIf, fitting }: EndpointSummary): string {
  const times = (count: number, one: string) => `${count} ${count === 1 ? one : `${one}s`}`
  const seen = `${times(calls, 'call')}, ${times(repeats, 'repeat')}, ${same} the same as before`
  if (fitting) return `${seen}: ${told(fitting)}`
  const least = whatIf.find(({ saved }) => saved > 0)
  return `${seen}: ${least ? told(least) : 'reuse would have saved nothing'}`
}

function told({ lifetime, saved, outdated }: WhatIf): string {
  return `${lifetime} would have saved ${saved}, of which ${outdated === 0 ? 'none' : outdated} out of date`
}
