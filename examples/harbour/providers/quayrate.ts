import { dayOf, harbour, hourOfDay, tariffChange } from '../world.js'
import {
  type Fault,
  type ProviderCall,
  type ProviderReply,
  type ProviderSetting,
  type SimulatedProvider,
  simulatedProvider,
} from './simulated-provider.js'

const atOnce = 4
const callsADay = 400

/** The afternoon outage, in hours: 503 first, then connections that hang, then half bodies. */
const outage: readonly (readonly [from: number, until: number, Fault])[] = [
  [14 + 10 / 60, 14 + 30 / 60, 'refusing'],
  [14 + 30 / 60, 14 + 45 / 60, 'hanging'],
  [14 + 45 / 60, 14 + 55 / 60, 'breaking'],
]

/** Quayrate Dues: a quote takes 3 s to compute; four calls at once; 400 a day; down for 45 minutes in the afternoon. */
export function quayrateProvider(setting: ProviderSetting, { withOutage = true } = {}): SimulatedProvider {
  const notes: unknown[] = []
  const byDay = new Map<string, number>()
  return simulatedProvider(
    {
      name: 'quayrate',
      bills: { unmodified: true, failed: true },
      admit(calls, now) {
        const today = (byDay.get(dayOf(now)) ?? 0) + 1
        byDay.set(dayOf(now), today)
        if (today > callsADay) return { refusal: { error: 'daily quota used up' } }
        return calls.atOnce > atOnce ? { refusal: { error: 'too many calls at once' } } : {}
      },
      typicalMs: (path) => (path.endsWith('/quotes') ? 3_000 : 130),
      faultAt: (now) => (withOutage ? outage.find(([from, until]) => hourOfDay(now) >= from && hourOfDay(now) < until)?.[2] : undefined),
      endpoints: {
        'GET /v1/tariffs/:harbour': ({ params, now }) =>
          params.harbour === harbour ? { json: tariff(now) } : { status: 404, json: { error: 'no such harbour' } },
        'GET /v1/quotes': quote,
        'PUT /v1/tariffs/:harbour/notes': ({ body }) => {
          notes.push(body)
          return { status: 204 }
        },
      },
    },
    setting,
  )
}

function tariff(now: number): { harbour: string; edition: string; perMetreNight: string; currency: string } {
  const changed = hourOfDay(now) >= tariffChange
  return {
    harbour,
    edition: `${dayOf(now).slice(0, 7)}${changed ? '-b' : '-a'}`,
    perMetreNight: changed ? '2.35' : '2.10',
    currency: 'EUR',
  }
}

function quote({ query, now }: ProviderCall): ProviderReply {
  const [length, nights] = [Number(query.get('length')), Number(query.get('nights'))]
  if (!(length > 0) || !(nights > 0)) return { status: 400, json: { error: 'length and nights must be above 0' } }
  const { perMetreNight, currency, edition } = tariff(now)
  const cents = Math.round(length * nights * Number(perMetreNight) * 100)
  return { json: { length, nights, edition, dues: (cents / 100).toFixed(2), currency } }
}
