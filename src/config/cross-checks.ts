import type { ConfigFault } from '../core/errors.js'
import { endpointList } from '../core/rules/compile.js'
import type { NamedEndpointOptions, ProviderOptions, ReuseOptions } from '../core/rules/options.js'
import { parseRequestTemplate, templateShape } from '../core/rules/path-template.js'

/** Faults that only several options together show. The shape may be wrong too: what cannot be read is passed over. */
export function providerFaults(config: unknown): ConfigFault[] {
  const providers = recordOf(recordOf(config)?.providers)
  if (!providers) return []
  const faults: ConfigFault[] = []
  const byBase = new Map<string, string>()
  for (const [name, value] of Object.entries(providers)) {
    const provider = recordOf(value) as ProviderOptions | undefined
    if (!provider) continue
    const path = `providers.${name}`
    const base = baseOf(provider.baseUrl)
    const other = base && byBase.get(base)
    if (other) faults.push({ path: `${path}.baseUrl`, message: `providers "${other}" and "${name}" have the same base URL` })
    else if (base) byBase.set(base, name)
    faults.push(...endpointFaults(provider, path))
  }
  return faults
}

/** Faults among the reuse options of one endpoint or operation. */
export function reuseFaults(options: ReuseOptions | undefined, path: string): ConfigFault[] {
  if (options?.staleIfError === undefined || options.freshFor !== undefined) return []
  return [{ path: `${path}.staleIfError`, message: 'does nothing without "freshFor": only answers that are stored can be given out later' }]
}

/** `providers.ebbline.endpoints[2].name` for a path. */
export function endpointPath(path: readonly PropertyKey[]): string {
  return path.reduce<string>(
    (text, step) => (typeof step === 'number' ? `${text}[${step}]` : text ? `${text}.${String(step)}` : String(step)),
    '',
  )
}

function endpointFaults(provider: ProviderOptions, path: string): ConfigFault[] {
  const isList = Array.isArray(provider.endpoints)
  const endpoints = readable(provider)
  const faults: ConfigFault[] = []
  const byName = new Map<string, string>()
  const byShape = new Map<string, string>()
  if (endpoints.length > 0 && provider.baseUrl === undefined) {
    faults.push({ path: `${path}.baseUrl`, message: 'is missing: the endpoints need a URL to stand below' })
  }
  for (const [i, endpoint] of endpoints.entries()) {
    const place = isList ? `${path}.endpoints[${i}]` : `${path}.endpoints.${endpoint.name}`
    const sameName = byName.get(endpoint.name)
    if (sameName)
      faults.push({ path: `${place}.name`, message: `"${endpoint.name}" is the name of ${sameName} too: give each a name of its own` })
    else byName.set(endpoint.name, place)
    if (endpoint.perCall !== undefined && provider.plan === undefined) {
      faults.push({ path: `${place}.perCall`, message: 'needs a "plan" of the provider, which says the currency' })
    }
    faults.push(...reuseFaults(endpoint, place), ...requestFaults(endpoint, place, byShape))
  }
  return faults
}

function requestFaults(endpoint: NamedEndpointOptions, place: string, byShape: Map<string, string>): ConfigFault[] {
  const template = typeof endpoint.request === 'string' ? parseRequestTemplate(endpoint.request) : undefined
  if (!template) return []
  const faults: ConfigFault[] = []
  if (template.method !== 'GET' && endpoint.freshFor !== undefined) {
    faults.push({
      path: `${place}.freshFor`,
      message: `answers to ${template.method} are not reused, only those to GET: leave it out, the calls are counted all the same`,
    })
  }
  const shape = `${template.method} /${templateShape(template.path)}`
  const other = byShape.get(shape)
  if (other)
    faults.push({ path: `${place}.request`, message: `covers the same requests as ${other}: no request could tell which is meant` })
  else byShape.set(shape, place)
  return faults
}

function readable(provider: ProviderOptions): NamedEndpointOptions[] {
  if (typeof provider.endpoints !== 'object' || provider.endpoints === null) return []
  return endpointList(provider).filter((endpoint) => recordOf(endpoint) !== undefined)
}

function baseOf(baseUrl: unknown): string | undefined {
  return typeof baseUrl === 'string' && URL.canParse(baseUrl) ? new URL(baseUrl).href.replace(/\/$/, '') : undefined
}

function recordOf(value: unknown): Record<string, unknown> | undefined {
  return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : undefined
}
