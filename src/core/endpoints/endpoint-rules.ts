import type { NamedEndpointOptions, ReuseOptions } from './options.js'
import type { ProviderOptions } from './provider-options.js'
import { endpointList, overlaid, resolveRule, type Sets, withSets } from './resolve-rule.js'

/** What holds for the requests of an endpoint, or for one operation or method of it. */
export interface EndpointRule {
  /** `endpoint`, or `endpoint.operation`. */
  readonly name: string
  /** The options of the endpoint; those of the operation over them, where it is for one. */
  readonly endpoint: NamedEndpointOptions
  /** With what it takes from sets and its provider's defaults. Of an operation, `limits` are its own alone. */
  readonly rule: ReuseOptions
  /** Of an operation or method: its name, and that of its endpoint. */
  readonly operation?: { readonly name: string; readonly of: string }
}

/** All rules of a provider: of its endpoints, each followed by those of its operations. */
export function endpointRules(options: ProviderOptions, sets: Sets): EndpointRule[] {
  return endpointList(options).flatMap((endpoint) => {
    const resolved = resolveRule(endpoint, options, sets)
    const common = inherited(endpoint, resolved)
    const rule = { ...common, ...(resolved.limits && { limits: resolved.limits }) } as ReuseOptions
    const named = Object.entries(endpoint.byName ?? {}).map(([operation, own]): EndpointRule => {
      const name = `${endpoint.name}.${operation}`
      return {
        name,
        operation: { name: operation, of: endpoint.name },
        endpoint: { ...endpoint, ...own, name } as NamedEndpointOptions,
        rule: overlaid(common, withSets(own, sets)),
      }
    })
    return [{ name: endpoint.name, endpoint, rule }, ...named]
  })
}

/** What the operations of an endpoint inherit. JSON-RPC does not say which methods only ask: none of them inherits that it is reusable. */
export function inherited({ protocol }: Pick<NamedEndpointOptions, 'protocol'>, { limits: _limits, ...rule }: ReuseOptions): ReuseOptions {
  if (protocol !== 'json-rpc') return rule as ReuseOptions
  const { freshFor: _for, freshUntil: _until, freshForStatus: _status, trust: _trust, sliding: _sliding, ...others } = rule
  return others as ReuseOptions
}

/** Whether an endpoint of a provider has a protocol. */
export function speaks(options: ProviderOptions): boolean {
  return endpointList(options).some(({ protocol }) => protocol !== undefined)
}
