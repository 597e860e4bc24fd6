import type { Attributes, MetricAttributes } from '@opentelemetry/api'
import type { StashEvents } from '../core/decide/events.js'
import { errorKind } from '../core/errors/error-text.js'
import { MissingPackageError } from '../core/errors/setup-errors.js'
import type { Stash } from '../stash.js'

type Api = typeof import('@opentelemetry/api')

/** The package `@opentelemetry/api`, as far as its types matter here: they are not needed where it is not used. */
interface GivenApi {
  readonly trace: unknown
  readonly metrics: unknown
}

/** The scope that spans and metrics stand under. */
const scope = 'stashen'

/**
 * Tells OpenTelemetry of every call that left for a provider: a client span and `http.client.request.duration`, by the semantic
 * conventions for HTTP clients (OpenTelemetry Semantic Conventions 1.x, "HTTP spans", "HTTP metrics"), and of every call of the application
 * by a counter `stashen.calls`. `api` is the package `@opentelemetry/api`, loaded where it is not given; throws `MissingPackageError` where
 * it is not installed. Returns what ends that.
 */
export async function traceCalls(stash: Pick<Stash, 'on'>, api?: GivenApi): Promise<() => void> {
  const { trace, metrics, context, SpanKind, SpanStatusCode } = (api as Api | undefined) ?? (await load())
  const tracer = trace.getTracer(scope)
  const meter = metrics.getMeter(scope)
  const duration = meter.createHistogram('http.client.request.duration', {
    description: 'Duration of HTTP client requests.',
    unit: 's',
    advice: { explicitBucketBoundaries: [0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10] },
  })
  const calls = meter.createCounter('stashen.calls', {
    description: 'Calls of the application, by how they were answered.',
    unit: '{call}',
  })

  const ends = [
    stash.on('upstream', (event) => {
      const attributes = httpAttributes(event)
      const failed = event.error !== undefined || (event.status !== undefined && event.status >= 400)
      const span = tracer.startSpan(
        event.method ?? `${event.provider}.${event.endpoint}`,
        { kind: SpanKind.CLIENT, startTime: event.beganAt, attributes: { ...attributes, ...spanAttributes(event) } },
        context.active(),
      )
      if (failed) span.setStatus({ code: SpanStatusCode.ERROR })
      span.end(event.beganAt.getTime() + event.ms)
      if (event.method !== undefined) duration.record(event.ms / 1000, attributes)
    }),
    stash.on('call', ({ provider, endpoint, how }) => {
      calls.add(1, { 'stashen.provider': provider, 'stashen.endpoint': endpoint, 'stashen.how': how })
    }),
  ]
  return () => {
    for (const end of ends) end()
  }
}

/** What stands on the metric and the span. */
function httpAttributes({ method, url, status, error }: StashEvents['upstream']): MetricAttributes {
  const server = url === undefined ? undefined : new URL(url)
  const port = server && Number(server.port || (server.protocol === 'https:' ? 443 : 80))
  return {
    ...(method !== undefined && { 'http.request.method': method }),
    ...(server && { 'server.address': server.hostname, 'server.port': port, 'url.scheme': server.protocol.slice(0, -1) }),
    ...(status !== undefined && { 'http.response.status_code': status }),
    ...(error !== undefined
      ? { 'error.type': errorKind(error) }
      : status !== undefined && status >= 400
        ? { 'error.type': String(status) }
        : {}),
  }
}

/** What stands on the span alone: it may differ with every call. */
function spanAttributes({ url, attempt, provider, endpoint, inBackground, label }: StashEvents['upstream']): Attributes {
  return {
    ...(url !== undefined && { 'url.full': url }),
    ...(attempt > 1 && { 'http.request.resend_count': attempt - 1 }),
    ...{ 'stashen.provider': provider, 'stashen.endpoint': endpoint, 'stashen.background': inBackground },
    ...(label !== undefined && { 'stashen.label': label }),
  }
}

async function load(): Promise<Api> {
  try {
    return await import('@opentelemetry/api')
  } catch (cause) {
    throw new MissingPackageError('@opentelemetry/api', 'traceCalls', { cause })
  }
}
