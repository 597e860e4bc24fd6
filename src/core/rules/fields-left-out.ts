/**
 * Request fields that choose no response, as patterns in which `*` stands for anything: those of the transport, of tracing, of what client calls and in which version,
 * counters of retries, identifiers of a single request, and dates of sending. Every other field that an application sets counts in keys.
 */
export const fieldsLeftOut = [
  // the transport (RFC 9110 sections 7.6 and 10.1.1, RFC 9113 section 8.2.2), and what the stash reads itself: directives, conditions, ranges
  ...['host', 'connection', 'keep-alive', 'proxy-connection', 'te', 'trailer', 'transfer-encoding', 'upgrade', 'via', 'max-forwards'],
  ...['content-length', 'expect', 'priority', 'http2-settings', 'alt-used', 'cache-control', 'pragma', 'range', 'if-range', 'if-match'],
  ...['if-none-match', 'if-modified-since', 'if-unmodified-since', 'sec-fetch-*', 'sec-gpc', 'dnt', 'upgrade-insecure-requests'],
  // tracing (W3C Trace Context and Baggage, B3, and those of the vendors)
  ...[
    'traceparent',
    'tracestate',
    'baggage',
    'b3',
    'x-b3-*',
    'uber-trace-id',
    'uberctx-*',
    'ot-tracer-*',
    'x-ot-span-context',
    'sentry-trace',
  ],
  ...['x-cloud-trace-context', 'x-amzn-trace-id', 'x-datadog-*', 'newrelic', 'x-newrelic-*', 'elastic-apm-traceparent', 'x-instana-*'],
  ...['x-dynatrace', 'grpc-trace-bin', 'request-context', '*-trace-id', '*-span-id', '*-trace-context'],
  // what client calls, and in which version
  ...['user-agent', '*-user-agent', '*-useragent', 'sec-ch-ua', 'sec-ch-ua-*', '*-client-name', '*-client-version', '*-client-telemetry'],
  ...['*-client-info', '*-sdk-name', '*-sdk-version', '*-sdk-language', 'x-goog-api-client', 'x-stainless-*', 'x-algolia-agent'],
  // retries, and identifiers of one request
  ...['*-retry-count', '*-retry-attempt', 'retry-count', 'retry-attempt', 'x-attempt', 'amz-sdk-request', 'amz-sdk-invocation-id'],
  ...['request-id', '*-request-id', 'x-requestid', 'correlation-id', '*-correlation-id', 'x-correlationid', 'idempotency-key'],
  ...['*-idempotency-key', '*-idempotency-token', 'idempotency-id', '*-idempotency-id', 'x-message-id', '*-invocation-id'],
  // when it is sent
  ...[
    'date',
    'x-date',
    'x-amz-date',
    'x-ms-date',
    'x-goog-date',
    'x-timestamp',
    'x-request-timestamp',
    'x-request-time',
    'x-request-start',
  ],
] as const

const patterns = fieldsLeftOut.filter((name) => name.includes('*'))
const names: ReadonlySet<string> = new Set(fieldsLeftOut.filter((name) => !name.includes('*')))

/** Whether a request field, its name in lower case, chooses no response. */
export function choosesNothing(name: string): boolean {
  return (
    names.has(name) ||
    patterns.some((pattern) => (pattern.startsWith('*') ? name.endsWith(pattern.slice(1)) : name.startsWith(pattern.slice(0, -1))))
  )
}
