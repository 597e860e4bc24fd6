import { createHash } from 'node:crypto'
import { dayOf, dayStart, hour, hourOfDay, minute, station } from '../world.js'
import {
  type ProviderCall,
  type ProviderReply,
  type ProviderSetting,
  type SimulatedProvider,
  simulatedProvider,
} from './simulated-provider.js'

const callsAMinute = 30
const callsAMonth = 5_000

/** Ebbline Tides: stations never change, tides are published anew at 06:00; `no-store` on everything; `ETag` and 304. */
export function ebblineProvider(setting: ProviderSetting): SimulatedProvider {
  return simulatedProvider(
    {
      name: 'ebbline',
      bills: { unmodified: false, failed: true },
      admit(calls, now) {
        if (calls.total > callsAMonth) return { refusal: { error: 'monthly quota used up' } }
        const minuteStart = now - (now % minute)
        if (calls.since(minuteStart) <= callsAMinute) return {}
        const secondsLeft = Math.ceil((minuteStart + minute - now) / 1000)
        return { headers: { 'retry-after': String(secondsLeft) }, refusal: { error: 'too many calls' } }
      },
      typicalMs: () => 240,
      endpoints: {
        'GET /v2/stations': (call) => {
          const isOurs = call.query.get('name')?.toLowerCase() === station.name.toLowerCase()
          return tagged(call, isOurs ? [{ id: station.id, name: station.name }] : [])
        },
        'GET /v2/stations/:id': (call) => (isOurs(call) ? tagged(call, station) : notFound),
        'GET /v2/stations/:id/tides': (call) => {
          const day = call.query.get('day') ?? dayOf(call.now)
          return isOurs(call) ? tagged(call, { station: station.id, day, published: lastPublished(call.now), tides: tides(day) }) : notFound
        },
      },
    },
    setting,
  )
}

function isOurs({ params }: ProviderCall): boolean {
  return params.id === station.id
}

const notFound: ProviderReply = { status: 404, json: { error: 'no such station' } }

function tagged({ ifNoneMatch }: ProviderCall, json: object): ProviderReply {
  const etag = `"${createHash('sha256').update(JSON.stringify(json)).digest('hex').slice(0, 16)}"`
  const headers = { etag, 'cache-control': 'no-store' }
  return ifNoneMatch === etag ? { status: 304, headers } : { headers, json }
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
