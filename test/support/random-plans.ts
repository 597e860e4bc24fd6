import fc from 'fast-check'
import type { PlanOptions, PlanTerms } from 'stashen'
import type { EndpointPrices, JournalCall } from './invoice-oracle.js'

const day = 86_400_000

export const zones = ['UTC', 'Europe/Oslo', 'America/St_Johns', 'Pacific/Apia', 'Asia/Kathmandu']
export const prices: EndpointPrices = { quote: { perCall: '0.15' }, search: { weight: 5 }, free: { weight: 0 } }

const price = fc.integer({ min: 0, max: 2_000_000 }).map((n) => (n / 1_000_000).toFixed(6).replace(/\.?0+$/, ''))

/** Ways to price calls. */
const callPrices: fc.Arbitrary<PlanTerms> = fc.oneof(
  fc.record({ perCall: price }),
  fc
    .record({
      ends: fc.uniqueArray(fc.integer({ min: 1, max: 60 }), { maxLength: 3 }),
      prices: fc.array(price, { minLength: 4, maxLength: 4 }),
      volume: fc.boolean(),
    })
    .map(({ ends, prices: tierPrices, volume }) => ({
      tiering: volume ? ('volume' as const) : ('graduated' as const),
      tiers: [
        ...ends.sort((a, b) => a - b).map((upTo, i) => ({ upTo, perCall: tierPrices[i] as string })),
        { perCall: tierPrices[3] as string },
      ],
    })),
  fc.record({ of: fc.integer({ min: 1, max: 20 }), price }).map((packages) => ({ packages })),
)

const around: fc.Arbitrary<PlanTerms> = fc.record(
  {
    baseFee: price,
    included: fc.integer({ min: 1, max: 40 }),
    minimum: price,
    maximum: fc.constant('9.5'),
    rounding: fc.constantFrom('half-up', 'half-even', 'up', 'down'),
  },
  { requiredKeys: [] },
) as fc.Arbitrary<PlanTerms>

const prepaid: fc.Arbitrary<PlanOptions> = fc
  .record({ credits: fc.integer({ min: 1, max: 40 }), price })
  .map((credits) => ({ currency: 'EUR', prepaid: credits }))

const periodic: fc.Arbitrary<PlanOptions> = fc
  .record({
    terms: callPrices,
    around,
    zone: fc.constantFrom(...zones),
    period: fc.constantFrom('day', 'month', 'month', 'year', { days: 10, from: '2028-01-20' }) as fc.Arbitrary<PlanOptions['period']>,
    anchorDay: fc.constantFrom(1, 15, 29, 30, 31),
    notBilled: fc.subarray(['unmodified', 'clientError', 'refused', 'failed', 'serverError', 'noAnswer'] as const),
    change: fc.option(fc.record({ day: fc.integer({ min: 0, max: 70 }), terms: callPrices, around }), { nil: undefined }),
  })
  .map(({ terms, around: more, period, anchorDay, change, ...rest }) => ({
    ...{ currency: 'EUR', ...terms, ...more, ...rest, period: period as NonNullable<PlanOptions['period']> },
    ...(period === 'month' && { anchorDay }),
    ...(change && {
      changes: [{ from: new Date(begin + change.day * day).toISOString().slice(0, 10), ...change.terms, ...change.around }],
    }),
  }))

export const plans: fc.Arbitrary<PlanOptions> = fc.oneof({ weight: 9, arbitrary: periodic }, { weight: 1, arbitrary: prepaid })

/** Ten weeks over a leap day and the changes to summer time of Europe and Newfoundland. */
export const begin = Date.parse('2028-01-25T00:00Z')

export const journals: fc.Arbitrary<JournalCall[]> = fc.array(
  fc.record({
    at: fc.integer({ min: 0, max: 70 * 24 * 60 * 4 }).map((quarter) => begin + quarter * 15_000),
    endpoint: fc.constantFrom('tides', 'station', 'quote', 'search', 'free'),
    how: fc.constantFrom(
      'answered',
      'answered',
      'answered',
      'unmodified',
      'clientError',
      'refused',
      'serverError',
      'noAnswer',
    ) as fc.Arbitrary<JournalCall['how']>,
  }),
  { minLength: 1, maxLength: 120 },
)
