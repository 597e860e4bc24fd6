import { createHash } from 'node:crypto'
import { dayOf, dayStart, hour, hourOfDay, minute, station } from '../world.js'
import { type Answering, type ProviderSetting, type SimulatedProvider, startProvider } from './simulated-provider.js'

const callsAMinute = 30
const callsAMonth = 5_000

/** Ebbline Tides: stations never change, tides are published anew at 06:00; `no-store` on everything; `ETag` and 304. */
export function startEbbline(setting: ProviderSetting): Promise<SimulatedProvider> {
  return startProvider(
    {
      name: 'ebbline',
      bills: { unmodified: false, failed: true },
      admit(calls, now, reply) {
        if (calls.total > callsAMonth) return { error: 'monthly quota used up' }
        const minuteStart = now - (now % minute)
        if (calls.since(minuteStart) <= callsAMinute) return undefined
        reply.header('retry-after', Math.ceil((minuteStart + minute - now) / 1000))
        return { error: 'too many calls' }
      },
      typicalMs: () => 240,
      endpoints: {
        'GET /v2/stations': (call) => {
          const { name } = call.request.query as { name?: string }
          return tagged(call, name?.toLowerCase() === station.name.toLowerCase() ? [{ id: station.id, name: station.name }] : [])
        },
        'GET /v2/stations/:id': (call) => (isOurs(call) ? tagged(call, station) : notFound(call)),
        'GET /v2/stations/:id/tides': (call) => {
          const { day = dayOf(call.now) } = call.request.query as { day?: string }
          return isOurs(call)
            ? tagged(call, { station: station.id, day, published: lastPublished(call.now), tides: tides(day) })
            : notFound(call)
        },
      },
    },
    setting,
  )
}

function isOurs({ request }: Answering): boolean {
  return (request.params as { id: string }).id === station.id
}

function notFound({ reply }: Answering): object {
  reply.code(404)
  return { error: 'no such station' }
}

function tagged({ request, reply }: Answering, answer: object): unknown {
  const etag = `"${createHash('sha256').update(JSON.stringify(answer)).digest('hex').slice(0, 16)}"`
  reply.headers({ etag, 'cache-control': 'no-store' })
  if (request.headers['if-none-match'] !== etag) return answer
  return reply.code(304).send()
}

function lastPublished(now: number): string {
  const today = now - hourOfDay(now) * hour
  return new Date((hourOfDay(now) >= 6 ? today : today - 24 * hour) + 6 * hour).toISOString()
}

/** Four turns of the tide, 50 minutes later each day. */
function tides(day: string): object[] {
  const age = Math.round((Date.parse(`${day}T00:00:00+02:00`) - dayStart) / (24 * hour))
  return [0, 1, 2, 3].map((turn) => {
    const minutes = ((((95 + 50 * age) % 370) + 370) % 370) + 372 * turn
    return {
      at: `${String(Math.floor(minutes / 60) % 24).padStart(2, '0')}:${String(Math.floor(minutes % 60)).padStart(2, '0')}`,
      turn: turn % 2 === 0 ? 'high' : 'low',
      metres: turn % 2 === 0 ? 1.24 + 0.02 * turn : 0.31 - 0.02 * turn,
    }
  })
}
