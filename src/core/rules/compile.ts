import type { BillingFacts } from '../ledger/ledger-row.js'
import { type FlatPlan, moneyOfCall } from '../money/flat-price.js'
import { durationMs } from '../time/duration.js'
import type { Endpoint, Provider, RequestEndpoint } from './endpoint.js'
import type { NamedEndpointOptions, ProviderOptions, ReuseOptions } from './options.js'
import { compareSpecificity, parseRequestTemplate, segmentsOf } from './path-template.js'

const defaultTimeout = '10 s'
const defaultHoldOff = '30 s'

/** Compiles the options of one provider. They have been checked: nothing here can fail. */
export function compileProvider(name: string, options: ProviderOptions): Provider {
  const endpoints = endpointList(options).map((endpoint): RequestEndpoint => {
    const { method, path } = parseRequestTemplate(endpoint.request) ?? { method: '', path: [] }
    return { ...compileEndpoint(name, endpoint.name, endpoint, options), method, path }
  })
  return {
    name,
    timeoutMs: durationMs(options.timeout ?? defaultTimeout) as number,
    base: options.baseUrl === undefined ? undefined : baseOf(options.baseUrl),
    secretQuery: new Set(options.secretQuery),
    callerHeaders: ['authorization', 'cookie', 'origin', ...(options.secretHeaders ?? []).map((field) => field.toLowerCase())],
    endpoints: endpoints.sort((a, b) => compareSpecificity(a.path, b.path)),
  }
}

/** Compiles the options of one endpoint or operation of a provider. */
export function compileEndpoint(provider: string, name: string, reuse: ReuseOptions, options: ProviderOptions): Endpoint {
  return {
    provider,
    name,
    freshForMs: reuse.freshFor === undefined ? undefined : durationMs(reuse.freshFor),
    staleIfErrorMs: durationMs(reuse.staleIfError ?? 0) as number,
    holdOffMs: durationMs(reuse.holdOff ?? defaultHoldOff) as number,
    timeoutMs: durationMs(options.timeout ?? defaultTimeout) as number,
    price: moneyOfCall(planOf(options, reuse)),
  }
}

/** The endpoints of a provider as a list, however they were written. */
export function endpointList(options: ProviderOptions): NamedEndpointOptions[] {
  const { endpoints = {} } = options
  return isList(endpoints) ? [...endpoints] : Object.entries(endpoints).map(([name, endpoint]) => ({ ...endpoint, name }))
}

/** What the books must know of a provider, or of one of its endpoints or operations. */
export function factsOf(
  provider: string,
  options: ProviderOptions,
  since: number,
  endpoint?: { name: string; reuse: ReuseOptions },
): BillingFacts {
  const { quota } = options
  return {
    provider,
    endpoint: endpoint?.name ?? null,
    since,
    plan: planOf(options, endpoint?.reuse),
    quota: endpoint || !quota ? undefined : { calls: quota.calls, per: quota.per, zone: quota.zone ?? 'UTC' },
  }
}

function planOf({ plan }: ProviderOptions, reuse: ReuseOptions | undefined): FlatPlan | undefined {
  return plan && { currency: plan.currency, perCall: reuse?.perCall ?? plan.perCall, notBilled: plan.notBilled ?? [] }
}

function baseOf(baseUrl: string): NonNullable<Provider['base']> {
  const url = new URL(baseUrl)
  const path = url.pathname.replace(/\/$/, '')
  return { origin: url.origin, segments: path === '' ? [] : segmentsOf(path) }
}

function isList<T>(value: T | readonly unknown[]): value is Extract<T, readonly unknown[]> {
  return Array.isArray(value)
}
