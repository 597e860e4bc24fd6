import type { StashConfig } from 'stashen'

/** What is hammered: calls wait for a limit, and are refused by a budget. */
export function hammered(base: string): NonNullable<StashConfig['providers']> {
  return {
    tides: {
      baseUrl: `${base}/tides`,
      limits: [{ calls: 100, per: 'minute' }],
      endpoints: { level: { request: 'GET /{id}', freshFor: '1 day', maxWait: '5 minutes' } },
    },
    quotes: {
      baseUrl: `${base}/quotes`,
      plan: { currency: 'EUR', perCall: '0.07' },
      budgets: [{ money: '12.34', per: 'year' }],
      endpoints: { quote: { request: 'GET /{id}', freshFor: '1 day' } },
    },
  }
}
