import { expect } from 'chai'
import {
  type EntryStore,
  type LedgerRow,
  type LedgerStore,
  memoryStore,
  openStash,
  type ProviderOptions,
  type StashConfig,
  type Store,
} from 'stashen'
import { FastClock } from 'stashen/harbour'
import { coarsened } from '../src/core/ledger/coarsen.js'
import { factsInForce } from '../src/core/ledger/facts-in-force.js'
import type { BillingFacts, TallyRow } from '../src/core/ledger/ledger-row.js'
import { openCalls, overLimits } from '../src/core/ledger/over-limit.js'
import { Tally } from '../src/core/ledger/tally.js'
import { compileBudget } from '../src/core/limits/budget.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { nothingKnown } from '../src/core/limits/provider-state.js'
import { waitingIn, withQueue } from '../src/core/limits/queue-lengths.js'
import type { Opening } from '../src/core/ports/store.js'
import { allSteps } from '../src/core/steps.js'
import { LedgerWriter } from '../src/engine/ledger/ledger-writer.js'
import type { GuardOptions } from '../src/stores/guarded/guard.js'
import { guardedStore } from '../src/stores/guarded/store.js'
import { admit } from './support/provider-play.js'
import { eventually } from './support/real-upstream.js'
import { noon } from './support/upstream.js'
import { askedIn, wrappedStore } from './support/wrapped-store.js'

const base = 'https://tides.ebbline.example'
const tides = { request: 'GET /tides/{id}', freshFor: '1 hour' } as const

/** A stash whose upstream answers with how many calls there were, held back where `holdNext` was called. */
async function numbered(
  provider: Omit<ProviderOptions, 'baseUrl'>,
  config: Partial<StashConfig> = {},
  headers: Record<string, string> = {},
) {
  const calls: Request[] = []
  const holding: Promise<void>[] = []
  const store = config.store ?? memoryStore()
  const stash = await openStash({
    ...{ store, warn: () => undefined, providers: { ebbline: { ...provider, baseUrl: base } } },
    async fetch(input, init) {
      const n = calls.push(new Request(input, init))
      await holding.shift()
      return new Response(`${n}`, { headers })
    },
    ...config,
  })
  const ask = async (path: string, init?: RequestInit) => {
    const response = await stash.fetch(base + path, init)
    return `${await response.text()} ${stash.outcomeOf(response)?.how}`
  }
  const holdNext = () => {
    let go = () => {}
    holding.push(new Promise<void>((resolve) => (go = resolve)))
    return go
  }
  return { stash, store, calls, ask, holdNext }
}

before(loadCalendars)

describe('guards', () => {
  it('no key holds a credential, wherever it stands', async () => {
    const vary = 'Authorization, Cookie, X-Api-Key, X-Harbour-Pass, X-Auth-Token, Accept-Language'
    const { stash, store, ask } = await numbered(
      {
        secretHeaders: ['X-Harbour-Pass'],
        secretQuery: ['pin'],
        endpoints: {
          tides: { ...tides, keyedBy: { headers: ['X-Api-Key', 'Authorization'], cookies: ['crew'] } },
          shared: { request: 'GET /shared/{id}', freshFor: '1 hour', shared: true },
        },
      },
      {},
      { vary, 'content-location': '/tides/1?pin=sesame-pin', location: `${base}/tides/1?pin=sesame-pin` },
    )
    const fields = ['authorization', 'cookie', 'x-api-key', 'x-harbour-pass', 'x-auth-token']
    const headers = { ...Object.fromEntries(fields.map((name) => [name, `crew=sesame-${name}`])), 'accept-language': 'no' }
    for (const path of ['/tides/1?pin=sesame-pin', '/shared/1?pin=sesame-pin']) {
      const first = await ask(path, { headers })
      expect(await ask(path, { headers })).to.equal(first.replace('forwarded', 'hit'))
      for (const name of fields) {
        const other = await ask(path, { headers: { ...headers, [name]: `crew=simsim-${name}` } })
        expect(other, `another ${name}`).to.match(/forwarded$/)
      }
    }
    const { entries } = await store.entries.list({ all: true })
    expect(entries.length).to.be.greaterThan(10)
    for (const entry of entries) expect(`${entry.key} ${entry.head}`).not.to.match(/sesame|simsim/)
    expect(
      entries.some(({ key }) => key.includes('"accept-language","no"')),
      'what is no credential can be read',
    ).to.equal(true)
    await stash.close()
  })

  it('an answer that was on its way when a newer one came, or something was written, is not stored', async () => {
    const { stash, ask, calls, holdNext } = await numbered({ endpoints: { tides } })
    let release = holdNext()
    let slow = ask('/tides/1')
    await eventually(() => calls.length === 1)
    expect(await ask('/tides/1', { cache: 'reload' } as RequestInit)).to.equal('2 forwarded')
    release()
    expect(await slow).to.equal('1 forwarded')
    expect(await ask('/tides/1')).to.equal('2 hit')
    release = holdNext()
    slow = ask('/tides/2')
    await eventually(() => calls.length === 3)
    expect(await ask('/tides/2', { method: 'PUT' })).to.equal('4 passed')
    release()
    expect(await slow).to.equal('3 forwarded')
    expect(await ask('/tides/2')).to.equal('5 forwarded')
    expect(await ask('/tides/2')).to.equal('5 hit')
    await stash.close()
  })

  it('a write makes stale what its answer names, but nothing of another origin', async () => {
    const other = 'https://tides.ebbline.example:8443'
    const { stash, ask } = await numbered(
      { endpoints: { tides } },
      {
        providers: {
          ebbline: { baseUrl: base, endpoints: { tides } },
          elsewhere: { baseUrl: other, endpoints: { tides } },
        },
      },
      { location: '/tides/2', 'content-location': `${other}/tides/1` },
    )
    const elsewhere = async () => {
      const response = await stash.fetch(`${other}/tides/1`)
      return `${await response.text()} ${stash.outcomeOf(response)?.how}`
    }
    expect([await ask('/tides/2'), await ask('/tides/3'), await elsewhere()]).to.eql(['1 forwarded', '2 forwarded', '3 forwarded'])
    await ask('/tides/1', { method: 'PUT' })
    expect([await ask('/tides/2'), await ask('/tides/3'), await elsewhere()]).to.eql(['5 forwarded', '2 hit', '3 hit'])
    await stash.close()
  })

  it('a range of a stored answer is not cut out of bytes that were decoded on the way', async () => {
    for (const [headers, how] of [
      [{ 'content-encoding': 'gzip' }, 'forwarded'],
      [{}, 'hit'],
    ] as const) {
      const { stash, ask } = await numbered({ endpoints: { tides } }, {}, headers)
      expect(await ask('/tides/1')).to.equal('1 forwarded')
      expect(await ask('/tides/1', { headers: { range: 'bytes=0-0' } })).to.match(new RegExp(`${how}$`))
      await stash.close()
    }
  })

  it('the base fee of a period is charged in the part with its first call, and in no other', async () => {
    const clock = new FastClock(noon)
    const plan = { currency: 'EUR', period: 'day', baseFee: '10', perCall: '1' } as const
    const { stash, ask } = await numbered({ plan, endpoints: { tides, quote: { request: 'GET /quote', freshFor: '1 ms' } } }, { clock })
    for (const path of ['/tides/1', '/quote', '/tides/2', '/tides/3', '/tides/4']) {
      await ask(path)
      await clock.run(clock.sleep(3_600_000))
    }
    const eur = (amount: string) => [{ currency: 'EUR', amount }]
    for (const [since, until, fees, tidesCost, total] of [
      [0, 2, eur('10'), eur('1'), eur('12')],
      [2, 5, [], eur('3'), eur('3')],
      [1, 2, [], undefined, eur('1')],
    ] as const) {
      const { providers, totals } = await stash.report({
        since: new Date(noon + since * 3_600_000),
        until: new Date(noon + until * 3_600_000),
      })
      expect(providers[0]?.fees.with, `${since} to ${until}`).to.eql(fees)
      expect(providers[0]?.endpoints.find(({ endpoint }) => endpoint === 'tides')?.with?.money).to.eql(tidesCost)
      expect(totals.with?.money).to.eql(total)
    }
    await clock.run(stash.close())
  })

  it('a call that was never heard of again counts in a budget at the most that it can have cost', () => {
    const plan = { currency: 'EUR', perCall: '0.25' }
    const budget = compileBudget({ money: '1', per: 'day', zone: 'UTC' }, plan)
    for (const [what, perCall, weight] of [
      ['by the plan', undefined, 1],
      ['by a price of its own', '0.25', 1],
      ['by its weight', undefined, 2],
    ] as const) {
      const call = {
        ...{
          endpoint: 'tides',
          holdOffScope: 'tides',
          limits: [],
          holdOff: { firstMs: 0, upToMs: 0 },
          inBackground: false,
          leaseMs: 60_000,
        },
        spending: { budgets: [budget], price: { weight, perCall, unbilled: [], unitsUpTo: {} } },
      }
      let state = nothingKnown
      const many = 4 / weight
      for (let i = 0; i < many; i++) {
        const permit = admit(state, call, noon)
        expect(permit.admitted, what).to.equal(true)
        state = permit.state
      }
      const later = JSON.parse(JSON.stringify(state)) as typeof state // its process is gone; another one reads what it left
      expect(admit(later, call, noon + 3_600_000), what).to.include({ admitted: false, why: 'budget-spent' })
      expect(admit(later, call, noon + 86_400_000).admitted, 'the next day').to.equal(true)
    }
  })

  it('the queue of a process that is gone counts for a minute', () => {
    let state = withQueue(withQueue(nothingKnown, 'gone', 5, noon), 'here', 2, noon)
    expect(waitingIn(state, noon + 59_999)).to.equal(7)
    state = withQueue(state, 'here', 3, noon + 59_999)
    expect(waitingIn(state, noon + 60_000)).to.equal(3)
    expect(withQueue(state, 'here', 1, noon + 60_000).queues).to.have.keys('here')
    expect(withQueue(state, 'here', 0, noon + 60_000).queues).to.eql({})
  })

  it('counts that a store does not take stay bounded, and none is lost', async () => {
    const store = memoryStore()
    let fails = true
    const broken = {
      ...store,
      ledger: { add: (rows: readonly LedgerRow[]) => (fails ? Promise.reject(new Error('full')) : store.ledger.add(rows)) } as LedgerStore,
    }
    const ledger = new LedgerWriter(broken as Store, 'one')
    const counter = ledger.counter('ebbline', 'tides', 'reuse')
    const minutes = 12_000
    for (let i = 0; i < minutes; i++) {
      counter.at(noon + i * 60_000).hit++
      if (i % 4_000 === 0) await ledger.write()
    }
    await ledger.write()
    expect(ledger.unwritten().length).to.be.within(minutes / 60, 5_000)
    expect(ledger.unwritten().reduce((sum, { tally }) => sum + tally.asked, 0)).to.equal(minutes)
    fails = false
    await ledger.close()
    expect(ledger.unwritten()).to.eql([])
  })

  it('calls that are counted while counts are written are written too, whether or not a write failed before', async () => {
    for (const failsFirst of [false, true])
      for (let turns = 0; turns < 12; turns++) {
        let fails = failsFirst
        const store = wrappedStore(memoryStore(), async (name, work) => {
          if (name !== 'ledger.add') return work()
          const failed = fails
          fails = false
          await undefined
          if (failed) throw new Error('full')
          return work()
        })
        const ledger = new LedgerWriter(store, 'one')
        const counter = ledger.counter('ebbline', 'tides', 'reuse')
        counter.at(noon).hit++
        if (failsFirst) await ledger.write()
        const writing = ledger.write()
        for (let turn = 0; turn < turns; turn++) await undefined
        counter.at(noon).hit++
        await writing
        counter.at(noon).hit++
        await ledger.close()
        expect(await askedIn(store), `${turns} turns later`).to.equal(3)
      }
  })

  it('invalidations that a store does not take stay bounded: with too many, nothing stored before is given out', async () => {
    const store = memoryStore()
    let told = 0
    let fails = true
    const invalidate: EntryStore['invalidate'] = (...args) => {
      if (fails) throw new Error('locked')
      told++
      return store.entries.invalidate(...args)
    }
    const entries = new Proxy(store.entries, {
      get: (whole, name) => (name === 'invalidate' ? invalidate : Reflect.get(whole, name)?.bind(whole)),
    })
    const clock = new FastClock(noon)
    const guarded = guardedStore(
      { ...store, entries, open: () => undefined, close: () => undefined } as Store,
      { clock, timeLimitMs: 500, openWithout: false, corrupt() {}, trouble() {}, recovered() {} } as unknown as GuardOptions,
    )
    await guarded.open({} as Opening)
    for (let i = 0; i < 10_050; i++) await guarded.entries.invalidate({ under: `tides ${i}` }, noon)
    fails = false
    guarded.tryAgain()
    await guarded.entries.get('any')
    expect(told).to.be.within(1, 10_001)
  })

  it('calls that details settle are not settled again with them', () => {
    const settled = [{ provider: 'ebbline', endpoint: null, since: 0, limits: [{ calls: 10, perMs: 60_000 }] } as unknown as BillingFacts]
    const facts = factsInForce(settled)
    const asked = (bucket: number, calls: number): TallyRow => {
      const tally = new Tally()
      tally.hit = calls
      return { bucket, grain: 'minute', lengthMs: 60_000, provider: 'ebbline', endpoint: 'tides', mode: 'reuse', tally }
    }
    const rows = [asked(noon, 25), asked(noon + 60_000, 10)]
    const overIn = (some: TallyRow[]) => [...allSteps(overLimits(some, facts, openCalls)).values()]
    expect(overIn(rows)).to.eql([15])
    const hours = coarsened(rows, 'hour', settled, 'UTC')
    expect(hours.map(({ grain, isDetail, tally }) => [grain, isDetail === true, tally.overLimit])).to.eql([
      ['hour', false, 15],
      ['minute', true, 15],
      ['minute', true, 0],
    ])
    const details = hours.filter(({ isDetail }) => isDetail)
    details[0] = { ...(details[0] as TallyRow), tally: Object.assign(asked(0, 25).tally, { overLimit: 5 }) } // of others that were full by then
    expect(overIn(details), 'settled once').to.eql([])
    expect(overIn(hours.filter(({ isDetail }) => !isDetail)), 'settled once').to.eql([])
  })
})
