import type { ProviderOptions } from 'stashen'
import { harbour, zone } from './world.js'

/** How the harbour office treats the APIs it pays for. */
export const providers = {
  ebbline: {
    baseUrl: 'https://tides.ebbline.example/v2',
    plan: {
      ...{ currency: 'EUR', period: 'month', zone, baseFee: '19', included: 1_000 },
      tiers: [{ upTo: 10_000, perCall: '0.004' }, { perCall: '0.002' }],
      notBilled: ['unmodified', 'refused'],
    },
    quota: { calls: 5_000, per: 'month', zone },
    limits: [{ calls: 30, per: 'minute', window: 'aligned' }],
    endpoints: {
      findStation: { request: 'GET /stations', freshFor: '30 days', staleIfError: '1 year' },
      station: { request: 'GET /stations/{id}', freshFor: '30 days', staleIfError: '1 year' },
      tides: { request: 'GET /stations/{id}/tides', freshUntil: { daily: '06:00', zone }, staleIfError: '1 day' },
    },
  },
  skerrylight: {
    baseUrl: 'https://positions.skerrylight.example/v1',
    secretQuery: ['key'],
    limits: [{ calls: 90, per: 'minute', window: 'aligned' }],
    budgets: [{ money: '14' }],
    plan: {
      ...{ currency: 'EUR', period: 'month', zone },
      tiers: [{ upTo: 20_000, perCall: '0.01' }, { perCall: '0.006' }],
      notBilled: ['refused'],
    },
    endpoints: {
      findVessel: { request: 'GET /vessels', freshFor: '30 days', staleIfError: '1 year' },
      position: { request: 'GET /vessels/{id}/position', freshFor: '1 min', staleIfError: '15 min' },
      search: { request: 'POST /vessels/search', safe: true, freshFor: '30 days', staleIfError: '1 year' },
    },
  },
  quayrate: {
    baseUrl: 'https://dues.quayrate.example/v1',
    plan: { currency: 'EUR', perCall: '0', notBilled: ['refused'] },
    quota: { calls: 400, per: 'day', zone },
    limits: [{ atOnce: 4 }],
    timeout: { firstByte: '10 s', total: '20 s' },
    endpoints: {
      tariff: { request: 'GET /tariffs/{harbour}', labels: ['tariff {harbour}'], freshFor: '30 min', staleIfError: '1 day' },
      quote: { request: 'GET /quotes', labels: [`tariff ${harbour}`], freshFor: '6 hours', staleIfError: '1 day', perCall: '0.15' },
      note: { request: 'PUT /tariffs/{harbour}/notes' },
    },
  },
} as const satisfies Record<string, ProviderOptions>
