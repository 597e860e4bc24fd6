import { hourOfDay, minute, skerrylightKey, vessels } from '../world.js'
import {
  type ProviderCall,
  type ProviderReply,
  type ProviderSetting,
  type SimulatedProvider,
  simulatedProvider,
} from './simulated-provider.js'

const callsAMinute = 90

/** Skerrylight Positions: a position changes every minute under way; slow at the full hour; 429 past its limit. */
export function skerrylightProvider(setting: ProviderSetting): SimulatedProvider {
  return simulatedProvider(
    {
      name: 'skerrylight',
      bills: { unmodified: true, failed: true },
      admit(calls, now) {
        const minuteStart = now - (now % minute)
        const left = callsAMinute - calls.since(minuteStart)
        const secondsLeft = Math.ceil((minuteStart + minute - now) / 1000)
        const headers = {
          'ratelimit-policy': `"minute";q=${callsAMinute};w=60`,
          ratelimit: `"minute";r=${Math.max(0, left)};t=${secondsLeft}`,
        }
        if (left >= 0) return { headers }
        return { headers: { ...headers, 'retry-after': String(secondsLeft) }, refusal: { error: 'too many calls' } }
      },
      typicalMs: (_path, now) => (hourOfDay(now) % 1 < 2 / 60 ? 1_900 : 160),
      endpoints: {
        'GET /v1/vessels': (call) => keyed(call, () => found(call.query.get('name') ?? '')),
        'GET /v1/vessels/:id/position': (call) => keyed(call, () => position(call)),
        'POST /v1/vessels/search': (call) => keyed(call, () => found((call.body as { name?: string } | null)?.name)),
      },
    },
    setting,
  )
}

function keyed({ query }: ProviderCall, reply: () => ProviderReply): ProviderReply {
  return query.get('key') === skerrylightKey ? reply() : { status: 401, json: { error: 'unknown key' } }
}

function found(name = ''): ProviderReply {
  const matching = vessels.filter((vessel) => vessel.name.toLowerCase().startsWith(name.toLowerCase()))
  return { json: matching.map(({ id, name, lengthM }) => ({ id, name, lengthM })) }
}

function position({ params, now }: ProviderCall): ProviderReply {
  const vessel = vessels.find(({ id }) => id === params.id)
  if (!vessel) return { status: 404, json: { error: 'no such vessel' } }
  const [leaves, returns] = vessel.underWay
  const minutesOut = Math.floor((Math.min(Math.max(hourOfDay(now), leaves), returns) - leaves) * 60)
  const underWay = minutesOut > 0 && hourOfDay(now) < returns
  const miles = underWay ? Math.min(minutesOut, (returns - leaves) * 60 - minutesOut) / 10 : 0
  return {
    json: {
      id: vessel.id,
      name: vessel.name,
      underWay,
      lat: round(58.312 - miles / 60),
      lon: round(6.481 + miles / 45),
      knots: underWay ? 6 : 0,
    },
  }
}

function round(degrees: number): number {
  return Math.round(degrees * 10_000) / 10_000
}
