import { setTimeout as pause } from 'node:timers/promises'
import { expect } from 'chai'
import { memoryStore, openStash, type Stash } from 'stashen'
import type { BoundCall, PermitFacts } from '../src/core/limits/bound.js'
import { compileBudget } from '../src/core/limits/budget.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { compileLimit, compileQuota, type LimitOptions } from '../src/core/limits/limit.js'
import { nothingKnown, type ProviderState } from '../src/core/limits/provider-state.js'
import { admit, ended, reported } from './support/provider-play.js'
import { wrappedStore } from './support/wrapped-store.js'

const noon = Date.parse('2026-06-30T12:00:00Z')
const [second, minute, hour, day] = [1_000, 60_000, 3_600_000, 86_400_000]
const holdOff = { firstMs: 0, upToMs: 0 }
const usual: BoundCall = { endpoint: 'tides', holdOffScope: 'tides', limits: [], holdOff, inBackground: false, leaseMs: 10 * second }
const kept = (state: ProviderState) => JSON.parse(JSON.stringify(state)) as ProviderState

/** Lets calls out until one is refused; each ends a moment later, unless it is `lost`. Returns how many left. */
function fill(
  state: ProviderState,
  call: BoundCall,
  at: number,
  { lost = false, most = 1_000 } = {},
): { state: ProviderState; left: number } {
  let [known, left] = [state, 0]
  for (; left < most; left++) {
    const one = admit(known, call, at)
    known = kept(one.state)
    if (!one.admitted) break
    if (!lost) known = kept(ended(known, call, one.permit, { how: 'answered', at: at + 1, random: 0 }))
  }
  return { state: known, left }
}

/** How a provider is brought to refuse, and for how long it may, milliseconds. */
const blocked: [what: string, block: (at: number) => { state: ProviderState; call: BoundCall }, lengthMs: number][] = [
  ...(
    [
      ['a rolling window', { calls: 5, per: 'minute' }, minute],
      ['a fixed window', { calls: 5, per: 'minute', window: 'fixed' }, minute],
      ['an aligned window', { calls: 5, per: 'hour', window: 'aligned' }, hour],
      ['a bucket', { calls: 6, per: 'minute', burst: 3 }, 10 * second],
    ] as [string, LimitOptions, number][]
  ).map(([what, options, lengthMs]): (typeof blocked)[number] => {
    const call = { ...usual, limits: [compileLimit(options)] }
    return [what, (at) => ({ call, state: fill(nothingKnown, call, at).state }), lengthMs]
  }),
  [
    'calls at once that nothing is heard of',
    (at) => {
      const call = { ...usual, limits: [compileLimit({ atOnce: 2 })] }
      return { call, state: fill(nothingKnown, call, at, { lost: true }).state }
    },
    usual.leaseMs,
  ],
  ['a quota', (at) => filled({ ...usual, limits: [compileQuota({ calls: 10, per: 'day', zone: 'UTC' })] }, at), day],
  ['a budget', (at) => filled({ ...usual, spending: daily(10) }, at), day],
  ['a pause that the provider asked for', (at) => said({ limits: [], notBefore: at + 2 * minute }, at), 2 * minute],
  ['a limit that it reported', (at) => said({ limits: [{ name: 'm', left: 0, until: at + minute }], notBefore: undefined }, at), minute],
  [
    'a hold-off',
    (at) => {
      const call = { ...usual, holdOff: { firstMs: minute, upToMs: 10 * minute } }
      const one = admit(nothingKnown, call, at)
      if (!one.admitted) throw new Error(one.what)
      return { call, state: ended(one.state, call, one.permit, { how: 'failed', at, random: 0 }) }
    },
    minute,
  ],
]

function filled(call: BoundCall, at: number) {
  return { call, state: fill(nothingKnown, call, at).state }
}

function said(reports: Parameters<typeof reported>[3], at: number) {
  const one = admit(nothingKnown, usual, at)
  if (!one.admitted) throw new Error(one.what)
  const state = reported(one.state, usual, one.permit, reports, at)
  return { call: usual, state: ended(state, usual, one.permit, { how: 'answered', at, random: 0 }) }
}

function daily(calls: number): BoundCall['spending'] {
  return { budgets: [compileBudget({ calls, per: 'day' }, undefined)], price: { weight: 1, unbilled: [], unitsUpTo: {} } }
}

before(loadCalendars)

describe('a clock that is changed', () => {
  for (const [what, block, lengthMs] of blocked) {
    /** What the clock shows when it is changed, after it was right at noon. */
    const changes: [how: string, wrong: number, right: number][] = [
      ['set back an hour', noon, noon - hour],
      ['a year fast, and set right', noon + 365 * day, noon],
      ['a year slow, and set right', noon - 365 * day, noon],
    ]
    for (const [how, wrong, right] of changes) {
      it(`lets ${what} block no longer than its own length when it is ${how}`, () => {
        const { state, call } = block(wrong)
        expect(admit(kept(state), call, wrong).admitted, 'it blocks').to.equal(false)
        let known = kept(state)
        const opens = (at: number) => {
          const asked = admit(known, call, at)
          known = kept(asked.state)
          return asked.admitted
        }
        const steps = 20
        let openAt: number | undefined
        for (let step = 0; step <= steps && openAt === undefined; step++) {
          const at = right + Math.ceil((lengthMs * step * 1.02) / steps) + 1 // they are counted in steps of a hundredth
          if (opens(at)) openAt = at
        }
        expect(openAt, 'it lets calls out again').to.not.equal(undefined)
      })
    }
  }

  for (const [what, call, most] of [
    ['a quota', { ...usual, limits: [compileQuota({ calls: 10, per: 'day', zone: 'UTC' })] }, 10],
    ['a budget', { ...usual, spending: daily(10) }, 10],
    ['an aligned window', { ...usual, limits: [compileLimit({ calls: 10, per: 'day', window: 'aligned', zone: 'UTC' })] }, 10],
  ] as [string, BoundCall, number][]) {
    it(`lets ${what} through no more than it has in any true day, whichever way it is changed`, () => {
      const midnight = Date.parse('2026-07-01T00:00Z')
      /** Moments by the wrong clock, with the true ones, in the order in which they happen; so many calls are wanted at each. */
      // biome-ignore format: a row a line
      const histories: [name: string, moments: [wrong: number, true_: number, wanted: number][]][] = [
        ['a year forward and back', [[noon, noon, 4], [noon + 365 * day, noon + minute, 3], [noon + 2 * minute, noon + 2 * minute, 99]]],
        [
          'an hour back over midnight',
          [
            [midnight - 20 * minute, midnight - 20 * minute, 4],
            [midnight + 10 * minute, midnight + 10 * minute, 5],
            [midnight - 50 * minute, midnight + 11 * minute, 99],
            [midnight + 10 * minute, midnight + 70 * minute, 99],
          ],
        ],
        ['an hour back within the day', [[noon, noon, 4], [noon - hour, noon + minute, 99]]],
      ]
      for (const [name, moments] of histories) {
        let known: ProviderState = nothingKnown
        const byDay = new Map<number, number>()
        for (const [wrong, true_, wanted] of moments) {
          const { state, left } = fill(known, call, wrong, { most: wanted })
          known = state
          const date = Math.floor(true_ / day)
          byDay.set(date, (byDay.get(date) ?? 0) + left)
        }
        for (const calls of byDay.values()) expect(calls, name).to.be.at.most(most)
        expect(
          [...byDay.values()].reduce((sum, calls) => sum + calls, 0),
          `${name}: it is used`,
        ).to.be.at.least(7)
      }
    })
  }

  it('does not take calls that are still under way for ended, nor forget them', () => {
    const call = { ...usual, limits: [compileLimit({ atOnce: 2 })] }
    const open: PermitFacts[] = []
    let known: ProviderState = nothingKnown
    for (let i = 0; i < 2; i++) {
      const one = admit(known, call, noon)
      if (one.admitted) open.push(one.permit)
      known = kept(one.state)
    }
    const back = noon - hour
    expect(admit(known, call, back).admitted).to.equal(false)
    known = kept(admit(known, call, back).state)
    known = kept(ended(known, call, open[0] as PermitFacts, { how: 'answered', at: back + second, random: 0 }))
    expect(admit(known, call, back + 2 * second).admitted, 'one has ended, by whatever clock it began').to.equal(true)
  })

  it('is not taken to be set back where a process that stood still tells late of what it did', async () => {
    let now = noon
    const later = (afterMs: number, run: () => void) => {
      const timer = setTimeout(run, Math.min(afterMs, 1e6)).unref()
      return () => clearTimeout(timer)
    }
    const clock = { now: () => now, ticks: () => now, later }
    const store = memoryStore()
    let standsStill: Promise<void> | undefined
    let goesOn = () => {}
    const opened = (fetch: () => Promise<Response>) =>
      openStash({
        store: wrappedStore(store, (name, work) => (name === 'records.update' && standsStill ? standsStill.then(work) : work())),
        ...{ clock, fetch },
        providers: {
          ebbline: {
            ...{ baseUrl: 'https://tides.ebbline.example/v2', limits: [{ calls: 5, per: 'minute' as const }] },
            endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 day', maxWait: 0 } },
          },
        },
      })
    const one = await opened(async () => {
      standsStill = new Promise((resolve) => {
        goesOn = resolve
      })
      return new Response('high')
    })
    const other = await opened(async () => new Response('high'))
    let id = 0
    const leave = async (stash: Stash) => {
      const answered = await stash.fetch(`https://tides.ebbline.example/v2/tides/${id++}`).catch(() => undefined)
      await answered?.text()
      return answered !== undefined
    }
    expect(await leave(one)).to.equal(true)
    await pause(80) // it wants to write that the call has ended
    const goOn = goesOn
    standsStill = undefined
    now = noon + 40 * second
    for (let i = 0; i < 4; i++) expect(await leave(other), 'they leave after 40 s').to.equal(true)
    goOn()
    await pause(80)
    now = noon + 61 * second
    const left = [await leave(other), await leave(other), await leave(one)]
    expect(left, 'only the first counts no more').to.eql([true, false, false])
    for (const stash of [one, other]) await stash.close()
  })

  it('is gone by where the store gives no time that is one: limits hold as if it had none', async () => {
    for (const time of [
      () => Number.NaN,
      () => undefined,
      () => 'noon',
      () => Promise.reject(new Error('away')),
      () => new Promise(() => {}),
    ]) {
      await using stash = await openStash({
        store: { ...memoryStore(), time: time as () => number },
        ...{ storeTimeout: '20 ms', warn() {}, fetch: async () => new Response('high') },
        providers: {
          ebbline: {
            ...{ baseUrl: 'https://tides.ebbline.example/v2', limits: [{ calls: 2, per: 'minute' as const }] },
            endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 day', maxWait: 0 } },
          },
        },
      })
      const codes: unknown[] = []
      for (let id = 0; id < 3; id++)
        codes.push(
          await stash.fetch(`https://tides.ebbline.example/v2/tides/${id}`).then(
            ({ status }) => status,
            ({ code }: { code: string }) => code,
          ),
        )
      expect(codes, String(time)).to.eql([200, 200, 'LIMIT_REACHED'])
    }
  })

  it('does not matter where the store has a time of its own, which limits and pauses go by; who is told of them is told by its own clock', async () => {
    const store = memoryStore()
    const realNow = Date.now
    const ahead = hour
    const events: [limit: string, inMs: number | undefined][] = []
    const asked: string[] = []
    const stash = await openStash({
      store: { ...store, time: async () => realNow() + ahead },
      async fetch(input) {
        asked.push(String(input))
        return String(input).includes('busy') ? new Response('', { status: 429, headers: { 'retry-after': '30' } }) : new Response('high')
      },
      providers: {
        ebbline: {
          ...{ baseUrl: 'https://tides.ebbline.example/v2', limits: [{ calls: 2, per: 'minute' as const }] },
          endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 day', maxWait: 0 } },
        },
        skerrylight: {
          baseUrl: 'https://ais.skerrylight.example/api',
          endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day', maxWait: 0, retries: 0 } },
        },
      },
    })
    const inMs = (at: Date | null | undefined) => at && Math.round((at.getTime() - Date.now()) / 1_000)
    stash.on('limited', ({ limit, retryAt }) => void events.push([limit, inMs(retryAt) ?? undefined]))
    const failure = (path: string) =>
      stash.fetch(path).then(
        (response) => response.status,
        (error: { code: string; retryAt?: Date }) => [error.code, inMs(error.retryAt)],
      )
    const tides = 'https://tides.ebbline.example/v2/tides'
    const vessels = 'https://ais.skerrylight.example/api/vessels'
    try {
      expect(await failure(`${tides}/1`)).to.equal(200)
      Date.now = () => realNow() + day // of this machine
      expect(await failure(`${tides}/2`)).to.equal(200)
      Date.now = realNow
      const [code, seconds] = (await failure(`${tides}/3`)) as [string, number]
      expect(code).to.equal('LIMIT_REACHED')
      expect(seconds).to.be.within(55, 62)
      expect(events[0]?.[1]).to.be.within(55, 62)
      await failure(`${vessels}/busy`)
      const [why, later] = (await failure(`${vessels}/2`)) as [string, number]
      expect(why).to.equal('LIMIT_REACHED')
      expect(later).to.be.within(25, 32)
      expect(asked).to.have.length(3)
      const { at, providers } = await stash.status()
      expect(at.getTime()).to.be.closeTo(realNow(), 5_000)
      expect(providers.find(({ provider }) => provider === 'ebbline')?.limits[0]?.left).to.equal(0)
    } finally {
      Date.now = realNow
      await stash.close()
    }
  })
})
