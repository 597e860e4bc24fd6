import { dayOf, harbour, hourOfDay, tariffChange } from '../world.js'
import { type Answering, type Fault, type ProviderSetting, type SimulatedProvider, startProvider } from './simulated-provider.js'

const atOnce = 4
const callsADay = 400

/** The afternoon outage, in hours: 503 first, then connections that hang, then half bodies. */
const outage: readonly (readonly [from: number, until: number, Fault])[] = [
  [14 + 10 / 60, 14 + 30 / 60, 'refusing'],
  [14 + 30 / 60, 14 + 45 / 60, 'hanging'],
  [14 + 45 / 60, 14 + 55 / 60, 'breaking'],
]

/** Quayrate Dues: a quote takes 3 s to compute; four calls at once; 400 a day; down for 45 minutes in the afternoon. */
export function startQuayrate(setting: ProviderSetting, { withOutage = true } = {}): Promise<SimulatedProvider> {
  const notes: unknown[] = []
  const byDay = new Map<string, number>()
  return startProvider(
    {
      name: 'quayrate',
      bills: { unmodified: true, failed: true },
      admit(calls, now) {
        const today = (byDay.get(dayOf(now)) ?? 0) + 1
        byDay.set(dayOf(now), today)
        if (today > callsADay) return { error: 'daily quota used up' }
        return calls.atOnce > atOnce ? { error: 'too many calls at once' } : undefined
      },
      typicalMs: (path) => (path.endsWith('/quotes') ? 3_000 : 130),
      faultAt: (now) => (withOutage ? outage.find(([from, until]) => hourOfDay(now) >= from && hourOfDay(now) < until)?.[2] : undefined),
      endpoints: {
        'GET /v1/tariffs/:harbour': (call) => {
          if ((call.request.params as { harbour: string }).harbour === harbour) return tariff(call.now)
          call.reply.code(404)
          return { error: 'no such harbour' }
        },
        'GET /v1/quotes': quote,
        'PUT /v1/tariffs/:harbour/notes': ({ request, reply }) => {
          notes.push(request.body)
          return reply.code(204).send()
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

function quote({ request, reply, now }: Answering): object {
  const { length, nights } = request.query as { length?: string; nights?: string }
  if (!(Number(length) > 0) || !(Number(nights) > 0)) {
    reply.code(400)
    return { error: 'length and nights must be above 0' }
  }
  const { perMetreNight, currency, edition } = tariff(now)
  const cents = Math.round(Number(length) * Number(nights) * Number(perMetreNight) * 100)
  return { length: Number(length), nights: Number(nights), edition, dues: (cents / 100).toFixed(2), currency }
}
