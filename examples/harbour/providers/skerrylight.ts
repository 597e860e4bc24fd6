import { hourOfDay, minute, skerrylightKey, vessels } from '../world.js'
import { type Answering, type ProviderSetting, type SimulatedProvider, startProvider } from './simulated-provider.js'

const callsAMinute = 90

/** Skerrylight Positions: a position changes every minute under way; slow at the full hour; 429 past its limit. */
export function startSkerrylight(setting: ProviderSetting): Promise<SimulatedProvider> {
  return startProvider(
    {
      name: 'skerrylight',
      bills: { unmodified: true, failed: true },
      admit(calls, now, reply) {
        const minuteStart = now - (now % minute)
        const left = callsAMinute - calls.since(minuteStart)
        const secondsLeft = Math.ceil((minuteStart + minute - now) / 1000)
        reply.headers({
          'ratelimit-policy': `"minute";q=${callsAMinute};w=60`,
          ratelimit: `"minute";r=${Math.max(0, left)};t=${secondsLeft}`,
        })
        if (left >= 0) return undefined
        reply.header('retry-after', secondsLeft)
        return { error: 'too many calls' }
      },
      typicalMs: (_path, now) => (hourOfDay(now) % 1 < 2 / 60 ? 1_900 : 160),
      endpoints: {
        'GET /v1/vessels': (call) => keyed(call, () => found((call.request.query as { name?: string }).name)),
        'GET /v1/vessels/:id/position': (call) => keyed(call, () => position(call)),
        'POST /v1/vessels/search': (call) => keyed(call, () => found((call.request.body as { name?: string } | null)?.name)),
      },
    },
    setting,
  )
}

function keyed({ request, reply }: Answering, answer: () => unknown): unknown {
  if ((request.query as { key?: string }).key === skerrylightKey) return answer()
  reply.code(401)
  return { error: 'unknown key' }
}

function found(name = ''): object[] {
  return vessels
    .filter((vessel) => vessel.name.toLowerCase().startsWith(name.toLowerCase()))
    .map(({ id, name, lengthM }) => ({ id, name, lengthM }))
}

function position({ request, reply, now }: Answering): object {
  const vessel = vessels.find(({ id }) => id === (request.params as { id: string }).id)
  if (!vessel) {
    reply.code(404)
    return { error: 'no such vessel' }
  }
  const [leaves, returns] = vessel.underWay
  const minutesOut = Math.floor((Math.min(Math.max(hourOfDay(now), leaves), returns) - leaves) * 60)
  const underWay = minutesOut > 0 && hourOfDay(now) < returns
  const miles = underWay ? Math.min(minutesOut, (returns - leaves) * 60 - minutesOut) / 10 : 0
  return {
    id: vessel.id,
    name: vessel.name,
    underWay,
    lat: round(58.312 - miles / 60),
    lon: round(6.481 + miles / 45),
    knots: underWay ? 6 : 0,
  }
}

function round(degrees: number): number {
  return Math.round(degrees * 10_000) / 10_000
}
