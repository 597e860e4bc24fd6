import type { ProviderOptions } from 'stashen'

/** The provider that two processes on one store file ask. */
export function harbourAt(baseUrl: string): ProviderOptions {
  return {
    baseUrl,
    timeout: '2 s',
    limits: [{ calls: 20, per: 'hour' }, { atOnce: 4 }],
    endpoints: {
      position: { request: 'GET /positions/{id}', freshFor: '300 ms', staleWhileRevalidate: '1 day', staleIfError: '1 day' },
      quote: { request: 'GET /quotes/{id}', freshFor: '1 day', maxWait: '20 s' },
    },
  }
}
