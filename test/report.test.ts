import { readFileSync } from 'node:fs'
import { setTimeout as pause } from 'node:timers/promises'
import { Ajv } from 'ajv'
import Big from 'big.js'
import { expect } from 'chai'
import { parse } from 'csv-parse/sync'
import * as fc from 'fast-check'
import { type EndpointOptions, type Figures, type Mode, memoryStore, openStash, type ProviderOptions, type Store } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { fileJournal } from 'stashen/journal'
import { prometheusText } from 'stashen/observers'
import { renderCsv, renderHtml, renderMarkdown, renderText } from 'stashen/render'
import type { TallyRow } from '../src/core/ledger/ledger-row.js'
import { isTally } from '../src/core/ledger/readable-row.js'
import { reportOf } from '../src/core/ledger/report.js'
import { sumTallies } from '../src/core/ledger/sum-tallies.js'
import { Tally } from '../src/core/ledger/tally.js'
import { remarkOf } from '../src/render/remarks.js'
import { temporaryFolder } from './support/files.js'
import { withQuickTimers } from './support/quick-timers.js'
import { type Answer, breakOff, json, type Scene, scene, tides } from './support/upstream.js'
import { askedIn } from './support/wrapped-store.js'

const start = Date.parse('2026-06-30T21:30:00Z')
const minute = 60_000

const priced: Record<string, ProviderOptions> = {
  ebbline: { plan: { currency: 'EUR', perCall: '0.1', notBilled: ['failed'] }, quota: { calls: 10, per: 'day', zone: 'Europe/Oslo' } },
  quayrate: { plan: { currency: 'NOK', perCall: '1.005' } },
}

/** Makes calls on one store; every stash of a mode is opened, used and closed. */
async function play(
  store: ReturnType<typeof memoryStore>,
  clock: FastClock,
  mode: Mode,
  calls: readonly string[],
  providers = priced,
): Promise<void> {
  const stash = await openStash({ store, clock, mode, providers })
  let fails = false
  const work = async (name: string) => {
    await clock.sleep(name === 'quote' ? 3_000 : 200)
    if (fails) throw new Error('down')
    return name
  }
  const rule = { freshFor: '10 min', staleIfError: '1 day' } as const
  const tides = stash.operation('ebbline.tides', work, rule)
  const quote = stash.operation('quayrate.quote', work, { ...rule, perCall: '2.5' })
  await clock.run(
    (async () => {
      for (const call of calls) {
        if (call === 'wait') await clock.sleep(11 * minute)
        else if (call === 'break' || call === 'mend') fails = call === 'break'
        else await (call === 'quote' ? quote : tides)(call).catch(() => undefined)
      }
    })(),
  )
  await stash.close()
}

/** A memory store that outlives its stashes. */
function lasting(): ReturnType<typeof memoryStore> {
  return Object.assign(memoryStore(), { close() {} })
}

/** Opens a store whose ledger keeps its minutes apart, however long ago they were. */
const reading = (store: Store) => openStash({ store, ledger: { minutesFor: '20 years' } })

describe('reports', () => {
  const file = temporaryFolder()

  it('compare what was measured without with what was counted with the stash, to the cent', async () => {
    const store = lasting()
    const calls = ['a', 'a', 'quote', 'a', 'wait', 'break', 'a', 'b', 'mend', 'quote']
    for (const mode of ['measure', 'reuse'] as const) await play(store, new FastClock(start), mode, calls)
    const stash = await reading(store)
    const { providers, totals, since, until } = await stash.report()
    const [ebbline, quayrate] = providers
    expect(ebbline?.without).to.deep.include({
      basis: 'measured',
      asked: 5,
      upstream: 5,
      failed: 2,
      errored: 2,
      money: [{ currency: 'EUR', amount: '0.3' }],
    })
    expect(ebbline?.with).to.deep.include({
      asked: 5,
      upstream: 3,
      failed: 2,
      fromStore: 2,
      stale: 1,
      errored: 1,
      money: [{ currency: 'EUR', amount: '0.1' }],
    })
    expect(quayrate?.without.money).to.eql([{ currency: 'NOK', amount: '5' }])
    expect(quayrate?.with).to.deep.include({ upstream: 2, unchanged: 1, changed: 0, money: [{ currency: 'NOK', amount: '5' }] })
    expect(totals.saved).to.eql({
      calls: 2,
      upstreamCalls: 2,
      money: [
        { currency: 'EUR', amount: '0.2' },
        { currency: 'NOK', amount: '0' },
      ],
      timeMs: 400,
    })
    expect(quayrate?.without.latencyMs?.median).to.be.within(2_970, 3_030)
    expect(ebbline?.with?.latencyMs?.median, 'two of five waited for nothing').to.be.within(198, 202)
    expect([since, until]).to.eql([new Date('2026-06-30T21:30:00.000Z'), new Date('2026-06-30T21:42:00.000Z')])
    for (const side of ['without', 'with'] as const) {
      const sum = (key: 'asked' | 'upstream') =>
        providers.flatMap(({ endpoints }) => endpoints).reduce((total, one) => total + (one[side]?.[key] ?? 0), 0)
      expect([sum('asked'), sum('upstream')]).to.eql([totals[side]?.asked, totals[side]?.upstream])
    }
  })

  it('estimate what was not measured: the price of the calls asked', async () => {
    const store = lasting()
    await play(store, new FastClock(start), 'reuse', ['a', 'a', 'a', 'quote'])
    const { totals, providers } = await (await reading(store)).report()
    const unknown = { refused: 0, failed: null, errored: null }
    expect(totals.without).to.deep.include({
      basis: 'estimated',
      asked: 4,
      upstream: 4,
      ...unknown,
      money: [
        { currency: 'EUR', amount: '0.3' },
        { currency: 'NOK', amount: '2.5' },
      ],
    })
    expect(providers[0]?.saved?.money).to.eql([{ currency: 'EUR', amount: '0.2' }])
    const measuring = lasting()
    await play(measuring, new FastClock(start), 'measure', ['a', 'a'])
    const measured = (await (await reading(measuring)).report()).totals
    expect([measured.with, measured.saved, measured.without.upstream]).to.eql([null, null, 2])
  })

  it('count saved, without, with and refused by one rule, however a call ends, whatever the plan bills', async () => {
    type Play = (now: Scene & { ask: (path?: string, init?: RequestInit) => Promise<unknown> }) => Promise<unknown>
    const again: Play = async ({ ask, clock }) => [await ask(), await clock.sleep(61_000), await ask()]
    const failing =
      (answer: Answer): Play =>
      async (now) => {
        await now.ask()
        await now.clock.sleep(61_000)
        now.answer = answer
        await now.ask()
      }
    const checked = json(() => ({}), 200, { etag: '"1"' })
    // biome-ignore format: a row a line
    /** What happens; calls asked, without, with, saved and withheld; what a plan saves that bills all, and one that bills good answers only. */
    const rows: [what: string, play: Play, counts: number[], all: string, good: string, more?: Partial<EndpointOptions>][] = [
      ['one call', ({ ask }) => ask(), [1, 1, 1, 0, 0], '0', '0'],
      ['the same again', async ({ ask }) => [await ask(), await ask()], [2, 2, 1, 1, 0], '0.1', '0.1'],
      ['two at once', ({ ask }) => Promise.all([ask(), ask()]), [2, 2, 1, 1, 0], '0.1', '0.1'],
      ['a stored 404', async (now) => { now.answer = json(() => ({}), 404); await now.ask(); await now.ask() }, [2, 2, 1, 1, 0], '0.1', '0'],
      ['404s at once', (now) => { now.answer = json(() => ({}), 404); return Promise.all([now.ask(), now.ask()]) }, [2, 2, 1, 1, 0], '0.1', '0'],
      ['a refresh', again, [2, 2, 2, 0, 0], '0', '0', { staleIfError: 0 }],
      ['a 304', async (now) => { now.answer = checked; await now.ask(); await now.clock.sleep(61_000); now.answer = json(() => '', 304); await now.ask() }, [2, 2, 2, 0, 0], '0', '0.1'],
      ['a refresh behind', async (now) => { await again(now); await now.clock.sleep(1_000) }, [2, 2, 2, 1, 0], '0', '0', { staleWhileRevalidate: '1 hour' }],
      ['an older answer for a 503', failing(json(() => ({}), 503)), [2, 2, 2, 0, 0], '0', '0'],
      ['one while held off', async (now) => { await failing(breakOff)(now); await now.ask() }, [3, 2, 2, 0, 0], '0', '0'],
      ['a failure', async (now) => { now.answer = breakOff; await now.ask() }, [1, 1, 1, 0, 0], '0', '0'],
      ['two failures at once', (now) => { now.answer = json(() => ({}), 500); return Promise.all([now.ask(), now.ask()]) }, [2, 1, 1, 0, 0], '0', '0'],
      ['a refusal', async (now) => { now.answer = json(() => ({}), 429); await now.ask() }, [1, 1, 1, 0, 0], '0', '0'],
      ['a repetition', async (now) => { const { answer } = now; now.answer = (...call) => { now.answer = answer; json(() => ({}), 503)(...call) }; await now.ask() }, [1, 1, 2, 0, 0], '-0.1', '-0.1', { retries: 1 }],
      ['no place in the limit', async ({ ask }) => [await ask('/tides/1'), await ask('/tides/2')], [2, 1, 1, 0, 1], '0', '0', { limits: [{ calls: 1, per: 'hour' }], atLimit: 'refuse' }],
      ['only what is stored', ({ ask }) => ask('/tides/1', { headers: { 'cache-control': 'only-if-cached' } }), [1, 0, 0, 0, 1], '0', '0'],
      ['a caller gone before', ({ ask }) => ask('/tides/1', { signal: AbortSignal.abort() }), [1, 0, 0, 0, 1], '0', '0'],
      ['no reuse asked', async ({ ask }) => [await ask(), await ask('/tides/today', { headers: { 'cache-control': 'no-store' } })], [2, 2, 2, 0, 0], '0', '0'],
      ['a default in its place', async (now) => { now.answer = json(() => ({}), 503); await now.ask() }, [1, 1, 1, 0, 0], '0', '0', { fallback: { text: 'none' } }],
      ['held off with nothing older', async (now) => { now.answer = breakOff; await now.ask(); await now.ask() }, [2, 1, 1, 0, 1], '0', '0'],
      ['left midway', async (now) => (await now.stash.fetch(`${now.base}/tides/1`)).body?.cancel(), [1, 1, 1, 0, 0], '0', '0'],
      ['no endpoint', ({ ask }) => ask('/notes'), [1, 1, 1, 0, 0], '0', '0'],
      ['an answer that may not be stored', async (now) => { now.answer = json(() => ({}), 200, { 'set-cookie': 'a=1' }); await now.ask(); await now.ask() }, [2, 2, 1, 1, 0], '0.1', '0.1'],
      ['a call in the background that fails', async (now) => { await now.ask(); await now.clock.sleep(61_000); now.answer = json(() => ({}), 503); await now.ask(); await now.clock.sleep(1_000) }, [2, 2, 2, 1, 0], '0', '0.1', { staleWhileRevalidate: '1 hour' }],
    ]
    for (const [what, play, counts, all, good, more] of rows) {
      for (const notBilled of [[], ['clientError', 'unmodified', 'refused', 'failed']] as const) {
        const plan = { currency: 'EUR', perCall: '0.1', baseFee: '5', period: 'month', notBilled } as const
        const endpoint = { ...tides, freshForStatus: { 404: '1 hour' }, ...more } as EndpointOptions
        await scene(
          async (now) => {
            const ask = async (path = '/tides/today', init?: RequestInit) =>
              (await now.stash.fetch(now.base + path, init)).text().catch(() => undefined)
            await play(Object.assign(now, { ask: (...args: Parameters<typeof ask>) => ask(...args).catch(() => undefined) }))
            const report = await now.stash.report()
            const { without, with: made, saved } = report.totals
            expect([made?.asked, without.upstream, made?.upstream, saved?.calls, made?.withheld], what).to.eql(
              what === 'a 304' && notBilled.length > 0
                ? [2, 2, 2, 1, 0]
                : what === 'one while held off' && notBilled.length === 0
                  ? [3, 3, 2, 1, 0]
                  : counts,
            )
            const money = what === 'one while held off' && notBilled.length === 0 ? '0.1' : notBilled.length > 0 ? good : all
            expect(saved?.money[0]?.amount ?? '0', `${what}, ${notBilled}`).to.equal(money)
            const [provider] = report.providers
            const parts = [...(provider?.endpoints ?? []).flatMap((one) => one.with?.money ?? []), ...(provider?.fees.with ?? [])]
            const sum = parts.reduce((total, { amount }) => total.plus(amount), new Big(0))
            expect(sum.toFixed(), what).to.equal(made?.money[0]?.amount ?? '0')
          },
          { provider: { plan, endpoints: { tides: endpoint } } },
        )
      }
    }
  })

  it('say while measuring what reuse would have come to, however a call ends, and offline that nothing is saved without a store', async () => {
    type Play = (now: Scene & { ask: (path?: string, init?: RequestInit) => Promise<unknown> }) => Promise<unknown>
    const later: Play = async ({ ask, clock }) => [await ask(), await clock.sleep(61_000), await ask()]
    const then =
      (answer: Answer, ms = 61_000): Play =>
      async (now) => {
        await now.ask()
        await now.clock.sleep(ms)
        now.answer = answer
        await now.ask()
      }
    const asking = (header: string): Play => async ({ ask }) => [await ask(), await ask('/tides/today', { headers: { 'cache-control': header } })] // biome-ignore format: a row a line
    // biome-ignore format: a row a line
    /** What happens; calls asked and upstream, those that reuse would have hit, refreshed and repeated; what it would have saved of a plan that bills all, and of one that bills good answers only. */
    const rows: [what: string, play: Play, counts: number[], all: string, good: string, more?: Partial<EndpointOptions>][] = [
      ['one call', ({ ask }) => ask(), [1, 1, 0, 0, 0], '0', '0'],
      ['the same again', async ({ ask }) => [await ask(), await ask()], [2, 2, 1, 0, 0], '0.1', '0.1'],
      ['two at once', ({ ask }) => Promise.all([ask(), ask()]), [2, 2, 1, 0, 0], '0.1', '0.1'],
      ['a stored 404', async (now) => { now.answer = json(() => ({}), 404); await now.ask(); await now.ask() }, [2, 2, 1, 0, 0], '0.1', '0'],
      ['a refresh', later, [2, 2, 0, 0, 0], '0', '0'],
      ['a refresh behind', later, [2, 2, 1, 1, 0], '0', '0', { staleWhileRevalidate: '1 hour' }],
      ['a refresh ahead', async ({ ask, clock }) => [await ask(), await clock.sleep(50_000), await ask(), await clock.sleep(50_000), await ask()], [3, 3, 2, 2, 0], '0', '0', { refreshAhead: '20 s' }],
      ['kept fresh by use', async ({ ask, clock }) => [await ask(), await clock.sleep(50_000), await ask(), await clock.sleep(50_000), await ask()], [3, 3, 2, 0, 0], '0.2', '0.2', { sliding: { upTo: '1 hour' } }],
      ['a failure while fresh', then(breakOff, 1_000), [2, 2, 1, 0, 0], '0.1', '0'],
      ['a 503 while fresh', then(json(() => ({}), 503), 1_000), [2, 2, 1, 0, 0], '0.1', '0'],
      ['a failure', then(breakOff), [2, 2, 0, 0, 0], '0', '0'],
      ['one to be repeated', then(json(() => ({}), 503)), [2, 2, 0, 0, 1], '-0.1', '-0.1', { retries: 2 }],
      ['a refusal', async (now) => { now.answer = json(() => ({}), 429); await now.ask() }, [1, 1, 0, 0, 0], '0', '0'],
      ['no reuse asked', asking('no-store'), [2, 2, 0, 0, 0], '0', '0'],
      ['a new answer asked', asking('no-cache'), [2, 2, 0, 0, 0], '0', '0'],
      ['any age accepted', asking('max-stale'), [2, 2, 1, 0, 0], '0.1', '0.1'],
      ['a write between', async ({ ask }) => [await ask(), await ask('/tides/today', { method: 'PUT', body: '1' }), await ask()], [3, 3, 0, 0, 0], '0', '0'],
      ['only what is stored', ({ ask }) => ask('/tides/1', { headers: { 'cache-control': 'only-if-cached' } }), [1, 0, 0, 0, 0], '0', '0'],
      ['a caller gone before', ({ ask }) => ask('/tides/1', { signal: AbortSignal.abort() }), [1, 0, 0, 0, 0], '0', '0'],
    ]
    for (const [what, play, counts, all, good, more] of rows)
      for (const notBilled of [[], ['clientError', 'unmodified', 'refused', 'failed']] as const) {
        const plan = { currency: 'EUR', perCall: '0.1', notBilled } as const
        const endpoint = { ...tides, freshForStatus: { 404: '1 hour' }, ...more } as EndpointOptions
        const doing = async (now: Scene) => {
          const ask = async (path = '/tides/today', init?: RequestInit) => (await now.stash.fetch(now.base + path, init)).text()
          await play(Object.assign(now, { ask: (...args: Parameters<typeof ask>) => ask(...args).catch(() => undefined) }))
          return (await now.stash.report()).totals
        }
        const provider = { plan, endpoints: { tides: endpoint, write: { request: 'PUT /tides/{day}' } } }
        await scene(
          async (now) => {
            const { without, with: made, couldSave } = await doing(now)
            const { upstream, wouldHit, wouldRefresh, wouldRepeat } = without as Figures
            expect([made, without.basis, [without.asked, upstream, wouldHit, wouldRefresh, wouldRepeat]], what).to.eql([
              null,
              'measured',
              counts,
            ])
            expect(couldSave?.money[0]?.amount ?? '0', `${what}, ${notBilled}`).to.equal(notBilled.length > 0 ? good : all)
          },
          { provider, config: { mode: 'measure' } },
        )
        if (notBilled.length > 0) continue
        await scene(
          async (now) => {
            const { with: made, saved, without } = await doing(now)
            expect([made?.upstream, made?.withheld, saved?.calls, without.upstream], `${what}, offline`).to.eql([0, made?.asked, 0, 0])
          },
          { provider, config: { mode: 'offline' } },
        )
      }
  })

  it('price each call by what was known when it was made, and keep to the asked time', async () => {
    const store = lasting()
    const clock = new FastClock(start)
    await play(store, clock, 'reuse', ['a', 'wait'])
    await play(store, clock, 'reuse', ['b', 'c'], { ...priced, ebbline: { plan: { currency: 'EUR', perCall: '0.7' } } })
    const stash = await reading(store)
    expect((await stash.report()).totals.with?.money).to.eql([{ currency: 'EUR', amount: '1.5' }])
    const after = { since: '2026-06-30T21:35:00Z' }
    expect((await stash.report(after)).totals.with).to.deep.include({ asked: 2, money: [{ currency: 'EUR', amount: '1.4' }] })
    expect((await stash.report({ until: new Date('2026-06-30T21:35:00Z') })).totals.with?.asked).to.equal(1)
    expect(await stash.report({ since: start + 3_600_000 })).to.deep.include({ since: null, until: null, providers: [] })
    const wrong = await stash.report({ since: 'soon' }).catch((error: { code?: string }) => error.code)
    expect(wrong).to.equal('USAGE')
  })

  it('count quota by the calendar of its zone, also what was used before the time asked for', async () => {
    const store = lasting()
    const clock = new FastClock(start)
    await play(store, clock, 'reuse', ['a', 'b', 'wait', 'c'])
    const stash = await reading(store)
    const quota = async (since?: number) => (await stash.report(since === undefined ? {} : { since })).providers[0]?.quota
    expect(await quota()).to.deep.include({
      ...{
        limit: 10,
        per: 'day',
        zone: 'Europe/Oslo',
        from: new Date('2026-06-29T22:00:00.000Z'),
        until: new Date('2026-06-30T22:00:00.000Z'),
      },
      used: { measuring: 0, reusing: 3 },
    })
    expect((await quota(start + 10 * minute))?.used.reusing, 'all of the day counts').to.equal(3)
    await play(store, clock, 'reuse', ['wait', 'wait', 'd'])
    expect(await quota()).to.deep.include({ from: new Date('2026-06-30T22:00:00.000Z'), used: { measuring: 0, reusing: 1 } })
  })

  it('price units by what each answer cost when it was fetched, made and saved, from pointers, fields and functions', async () => {
    const clock = new FastClock(start)
    const asked: string[] = []
    const fetch = async (input: unknown) => {
      const url = new URL(String(input))
      asked.push(url.pathname)
      const tokens = Number(url.pathname.split('/').at(-1))
      return new Response(JSON.stringify({ usage: { tokens } }), {
        headers: { 'content-type': 'application/json', 'x-rows': '3', etag: '"1"' },
      })
    }
    const units = { tokens: { at: '/usage/tokens' }, rows: { header: 'x-rows' }, none: { at: '/nowhere' } } as const
    const plan = {
      currency: 'EUR',
      period: 'month',
      perCall: '0.01',
      units: { tokens: { price: '0.40', per: 1000 }, rows: { price: '0.001' }, none: { price: '9' } },
    } as const
    await using stash = await openStash({
      ...{ clock, fetch: fetch as typeof globalThis.fetch, store: lasting() },
      providers: {
        pintle: {
          baseUrl: 'https://pintle.example',
          plan,
          endpoints: { answers: { request: 'GET /answers/{id}', freshFor: '1 day', units } },
        },
      },
    })
    const asking = stash.operation('pintle.ask', async (n: number) => ({ n }), {
      freshFor: '1 day',
      units: { tokens: (answer) => (answer.json() as { n: number }).n },
    })
    await clock.run(
      (async () => {
        for (const id of [1000, 500, 1000, 1000]) await (await stash.fetch(`https://pintle.example/answers/${id}`)).text()
        for (const n of [2000, 2000, 2000]) await asking(n)
      })(),
    )
    const { providers, totals } = await stash.report()
    const [pintle] = providers
    // made: 3 calls, 3,500 tokens, 6 rows; without: 7 calls, 9,500 tokens, 12 rows
    expect(totals.with?.money).to.eql([{ currency: 'EUR', amount: '1.436' }])
    expect(totals.without.money).to.eql([{ currency: 'EUR', amount: '3.882' }])
    expect(pintle?.endpoints.map(({ endpoint, saved }) => [endpoint, saved?.money[0]?.amount])).to.eql([
      ['answers', '0.826'],
      ['ask', '1.62'],
    ])
    expect(asked).to.have.length(2)
  })

  it('count units in event streams, of the last event that has them, and of values that are not stored', async () => {
    const events = [
      '\ufeff: a comment\r\nevent: begin\r\ndata: {"usage":{"tokens":7}}\r\n\r\n',
      'data: {"delta":\ndata: "high"}\n\n',
      'data:{"usage":{"tokens":812}}\r\rid: 3\n\ndata: {"usage":null}\n\ndata: [DONE]\n\ndata: {"usage":{"tokens":9999}}',
    ]
    const seen: unknown[] = []
    const units = { tokens: { at: '/usage/tokens' } } as const
    const plan = { currency: 'EUR', units: { tokens: { price: '1', per: 1000 }, words: { price: '0.5' } } } as const
    await using stash = await openStash({
      fetch: async (input) =>
        new Response(
          new ReadableStream({
            pull(controller) {
              if (String(input).endsWith('/left')) return void controller.enqueue(new TextEncoder().encode('data: {}\n\n')) // without end
              const next = events[seen.length % events.length]
              seen.push(next)
              controller.enqueue(new TextEncoder().encode(next))
              if (seen.length % events.length === 0) controller.close()
            },
          }),
          { headers: { 'content-type': 'text/event-stream; charset=utf-8' } },
        ),
      providers: {
        pintle: {
          ...{ baseUrl: 'https://pintle.example', plan },
          endpoints: {
            chat: { request: 'POST /chat', units },
            left: { request: 'POST /left', units: { tokens: { at: '/usage/tokens', upTo: 400 } } },
            counted: { request: 'GET /counted', units: { words: (answer) => answer.events().length + answer.text().length / 1e6 } },
          },
        },
      },
      warn: () => {},
    })
    await (await stash.fetch('https://pintle.example/chat', { method: 'POST', body: '{}' })).text()
    await (await stash.fetch('https://pintle.example/counted')).text()
    const asking = stash.operation('pintle.ask', async () => ({ usage: { tokens: 1_000 }, client: () => 1 }), { freshFor: '1 day', units })
    await asking()
    const reader = (await stash.fetch('https://pintle.example/left', { method: 'POST', body: '{}' })).body?.getReader()
    await reader?.read()
    await reader?.cancel()
    const [pintle] = (await stash.report()).providers
    const text = events.join('').replace('\ufeff', '')
    expect(pintle?.endpoints.map(({ endpoint, with: made }) => [endpoint, made?.money[0]?.amount])).to.eql([
      ['ask', '1'],
      ['chat', '0.812'],
      ['counted', new Big(5).plus(new Big(text.length).div(1e6)).times(0.5).toFixed()],
      ['left', '0.4'],
    ])
    const left = pintle?.endpoints.at(-1)
    expect([left?.with?.unitsUnknown, left?.without.money[0]?.amount], 'without the stash the same').to.eql([1, '0.4'])
  })

  it('charge periods without a call, calls to the one in which they left if the plan says so, and unknown usage at the most it can be', async () => {
    const [clock, store] = [new FastClock(Date.parse('2026-01-31T23:59:50Z')), lasting()]
    const period = { days: 3, from: '2026-01-29' }
    const pintle = (countedAt: 'left' | 'ended'): ProviderOptions => ({
      plan: { currency: 'EUR', period, baseFee: '19', perCall: '0.5', countedAt, units: { tokens: { price: '1', per: 1000 } } },
      budgets: [{ money: '100' }],
    })
    const idle: ProviderOptions = { plan: { currency: 'EUR', period, minimum: '2' }, quota: { calls: 9, per: 'day' } }
    const stash = await openStash({ clock, store, providers: { left: pintle('left'), ended: pintle('ended'), idle }, warn: () => {} })
    const answer = async (takes: number, used?: number) => {
      await clock.sleep(takes)
      return used === undefined ? {} : { usage: { tokens: used } }
    }
    const units = { tokens: { at: '/usage/tokens', upTo: 3_000 } }
    const asking = [stash.operation('left.ask', answer, { units }), stash.operation('ended.ask', answer, { units })]
    const report = async (until?: string) => (await stash.report(until === undefined ? {} : { until })).providers
    const bills = async (until?: string) =>
      (await report(until)).map(({ provider, periods }) => [provider, ...periods.map(({ amount }) => amount)])
    await clock.run(
      (async () => {
        await Promise.all(asking.map((ask) => ask(20_000, 500)))
        expect(await bills()).to.eql([
          ['ended', '19', '20'],
          ['idle', '2', '2'],
          ['left', '20', '19'],
        ])
        await clock.sleep(6 * 86_400_000)
        await Promise.all(asking.map((ask) => ask(1)))
        expect(await bills('2026-02-04')).to.eql(await bills('2026-02-01T00:05:00Z'))
        expect(await bills()).to.eql([
          ['ended', '19', '20', '19', '22.5'],
          ['idle', '2', '2', '2', '2'],
          ['left', '20', '19', '19', '22.5'],
        ])
        const [ended] = await report()
        expect(ended?.endpoints[0]?.with).to.deep.include({ unitsUnknown: 1, money: [{ currency: 'EUR', amount: '4.5' }] })
        expect(ended?.fees).to.eql({ without: [{ currency: 'EUR', amount: '76' }], with: [{ currency: 'EUR', amount: '76' }] })
        expect(renderText(await stash.report())).to.include('ended.ask: its money is estimated: 1 answer does not say')
        const { providers } = await stash.status()
        expect(providers.map(({ provider, budgets }) => [provider, budgets[0]?.spent])).to.deep.include.members([
          ['ended', '4.5'],
          ['left', '3.5'],
        ])
        const quiet = renderText(await stash.report({ since: '2026-02-02', until: '2026-02-05' }))
        expect(quiet)
          .to.include('No calls were counted in this time.')
          .and.include('idle: billed EUR 2.00 for 2026-02-04 to 2026-02-06 (in part)')
        await stash.close()
      })(),
    )
    const later = await openStash({ store, clock: new FastClock(Date.parse('2027-01-01T00:00Z')) })
    const owed = (await later.report()).providers.map(({ provider, periods }) => [provider, periods.length])
    expect(owed, 'no fees after the last call, of providers that are in use no more').to.eql([
      ['ended', 4],
      ['idle', 4],
      ['left', 4],
    ])
    await later.close()
  })

  it('say the same in every format: calls, money and fees of each endpoint, measured and estimated', async () => {
    const row = (mode: 'measure' | 'reuse', endpoint: string, counts: object, provider = 'ebbline'): TallyRow => ({
      ...{ bucket: start, grain: 'minute', lengthMs: minute, mode, provider, endpoint },
      tally: Object.assign(new Tally(), counts),
    })
    const plan = { currency: 'EUR', period: 'month', baseFee: '19', perCall: '0.004' } as const
    const facts = ['ebbline', 'quayrate'].map((provider) => ({
      provider,
      endpoint: null,
      since: start,
      plan: { ...plan, ...(provider === 'quayrate' && { currency: 'JPY', baseFee: '0', perCall: '3' }) },
    }))
    const [few, many] = [
      { forwarded: 1_200, upAnswered: 1_200 },
      { hit: 1_000, forwarded: 200, upAnswered: 200 },
    ]
    const reused = [
      row('reuse', 'tides', many),
      row('reuse', 'a|b<c>', { stale: 3, staleByChoice: 1, errored: 4, upFailed: 4 }),
      row('reuse', 'quote', many, 'quayrate'),
    ]
    const both = [
      ...reused.slice(0, 1),
      row('measure', 'tides', few),
      row('reuse', 'quote', many, 'quayrate'),
      row('measure', 'quote', few, 'quayrate'),
    ]
    const number = (text = '') => Number(text.replace(/[^\d.]/g, '') || Number.NaN)
    type Line = [name: string, asked: number, upstream: number, money: number]
    const isLine = (line: Line | undefined): line is Line => line !== undefined
    for (const [basis, rows] of [
      ['estimated', reused],
      ['measured', both],
    ] as const) {
      const report = reportOf({ rows, facts, since: 0, until: start + minute })
      expect(report.totals.without.basis).to.equal(basis)
      const model = report.providers.flatMap(({ provider, endpoints, fees }): Line[] => [
        ...endpoints.map(
          (one): Line => [`${provider}.${one.endpoint}`, one.with?.asked ?? 0, one.with?.upstream ?? 0, number(one.with?.money[0]?.amount)],
        ),
        ...(fees.with ?? []).map(({ amount }): Line => [`${provider} fee`, Number.NaN, Number.NaN, number(amount)]),
      ])
      expect(model.length).to.equal(basis === 'estimated' ? 4 : 3)
      const plain = (text: string) => text.replace(/&#(\d+);/g, (_, code) => String.fromCharCode(Number(code))).replace(/\\(.)/g, '$1')
      let [provider, endpoint] = ['', '']
      const text = renderText(report, { wide: true })
        .split('\n')
        .flatMap((line): Line[] => {
          const cells = line.trim().split(/ {2,}/)
          if (/^\w+$/.test(line)) provider = line
          if (/^ {2}\S/.test(line) && cells.length > 2) endpoint = cells.shift() ?? ''
          if (endpoint === 'base fee' && cells[0] === 'both') return [[`${provider} fee`, Number.NaN, Number.NaN, number(cells[1])]]
          return cells[0] === 'with' && cells.length === 13 && provider !== '' && !line.startsWith('all') && endpoint !== 'all calls'
            ? [[`${provider}.${endpoint}`, number(cells[1]), number(cells[2]), number(cells[10])]]
            : []
        })
      let name = ''
      const markdown = renderMarkdown(report)
        .split('\n')
        .map((line): Line | undefined => {
          const [, first = '', side, asked, upstream, , , , , money] = line.split(/(?<!\\) ?\| ?/)
          if (first !== '') name = plain(first).replace(', base fee', ' fee')
          return side === 'with' && !name.startsWith('*') ? [name, number(asked), number(upstream), number(money)] : undefined
        })
        .filter(isLine)
      const csv = (parse(renderCsv(report), { columns: true }) as Record<string, string>[])
        .map((one): Line | undefined => {
          if (one.kind === 'fee') return [`${one.provider} fee`, Number.NaN, Number.NaN, number(one.money_with)]
          return one.kind === 'endpoint'
            ? [`${one.provider}.${one.endpoint}`, number(one.asked), number(one.upstream_with), number(one.money_with)]
            : undefined
        })
        .filter(isLine)
      const [table = ''] = (await renderHtml(report)).match(/aria-label="Endpoints: .*?<\/table>/s) ?? []
      const html = [...table.matchAll(/<tr><th scope="row">(.*?)<\/th>(.*?)<\/tr>/g)].map(([, first = '', rest = '']): Line => {
        const cells = [...rest.matchAll(/<td>(.*?)<\/td>/g)].map(([, cell]) => cell)
        return [plain(first).replace(', base fee', ' fee'), number(cells[0]), number(cells[1]), number(cells[7])]
      })
      expect({ text, markdown, csv, html }).to.eql({ text: model, markdown: model, csv: model, html: model })
      const { saved, without } = report.totals
      const sentence = new RegExp(`${saved?.calls.toLocaleString('en')} of ${without.asked.toLocaleString('en')} calls`)
      for (const printed of [renderText(report), renderMarkdown(report)]) expect(printed).to.match(sentence)
      for (const printed of [renderText(report), renderMarkdown(report), await renderHtml(report)])
        expect(printed).to.include(basis === 'estimated' ? 'stimated' : 'easured')
      expect(renderCsv(report)).to.include(`,${basis},`)
      const metrics = await prometheusText(report)
      const inEuros = metrics
        .split('\n')
        .filter((line) => /^stashen_(spent|fees)\{/.test(line) && !line.includes('mode="measure"') && line.includes('EUR'))
      const inAll = inEuros.reduce((sum, line) => sum.plus(line.split(' ').at(-1) ?? 0), new Big(0))
      expect(inAll.toFixed(), 'metrics').to.equal(report.totals.with?.money[0]?.amount)
      expect(metrics).to.include(`without the stash is ${basis}`)
    }
  })

  it('tell costs apart by tenant and by label, so that they add up to the whole, of a hundred at the most', async () => {
    const [clock, store] = [new FastClock(start), lasting()]
    const plan = {
      currency: 'EUR',
      period: 'month',
      baseFee: '10',
      included: 3,
      perCall: '0.1',
      units: { tokens: { price: '0.01' } },
    } as const
    const providers: Record<string, ProviderOptions> = {
      pintle: {
        ...{ baseUrl: 'https://pintle.example', plan },
        endpoints: {
          ours: { request: 'GET /ours/{id}', freshFor: '1 hour', per: ({ header }) => header('x-tenant') ?? '', countBy: 'per' },
          asked: { request: 'POST /asked', countBy: 'label', units: { tokens: { at: '/tokens' } } },
        },
      },
    }
    const fetch = async () => new Response('{"tokens":7}', { headers: { 'content-type': 'application/json' } })
    const stash = await openStash({ clock, store, providers, fetch, warn: () => {} })
    const read = async (answer: Promise<Response>) => void (await (await answer).text())
    const find = stash.operation('pintle.find', async (name: string) => name, { freshFor: '1 hour', countBy: 'label' })
    await clock.run(
      (async () => {
        for (const [tenant, calls] of [['acme', 4], ['bravo', 2], ['__proto__', 1]] as const) // biome-ignore format: a row a line
          for (let i = 0; i < calls; i++)
            await read(stash.fetch(`https://pintle.example/ours/${i % 2}`, { headers: { 'x-tenant': tenant } }))
        const ask = (label?: string) =>
          stash.calling(label === undefined ? {} : { label }).fetch('https://pintle.example/asked', { method: 'POST' })
        for (const label of ['board', 'board', undefined]) await read(ask(label))
        await Promise.all([find.calling({ label: 'desk' })('Marram'), find.calling({ label: 'board' })('Marram')])
        await clock.sleep(3 * 3_600_000)
      })(),
    )
    const report = await stash.report()
    const [pintle] = report.providers
    const labels = pintle?.labels?.map(({ label, with: made, saved }) => [
      label,
      made?.asked,
      made?.upstream,
      saved?.calls,
      made?.money[0]?.amount,
    ])
    expect(labels?.map(([label, asked, upstream, saved]) => [label, asked, upstream, saved])).to.have.deep.members([
      ['acme', 4, 2, 2],
      ['bravo', 2, 2, 0],
      ['__proto__', 1, 1, 0],
      ['board', 3, 2, 1],
      ['desk', 1, 1, 0],
      [null, 1, 1, 0],
    ])
    const sum = (amounts: readonly (string | number | null | undefined)[]) =>
      Number(amounts.reduce((total: Big, one) => total.plus(one ?? 0), new Big(0)))
    expect(sum([...(labels ?? []).map((one) => one[4]), pintle?.fees.with?.[0]?.amount])).to.equal(Number(pintle?.with?.money[0]?.amount))
    expect(labels?.find(([label]) => label === 'board')?.[4], 'tokens, and a share of what calls cost').to.equal(
      new Big('0.14').plus(new Big('0.6').times(2).div(9).round(2, 0)).toFixed(),
    )
    const rows = parse(renderCsv(await stash.report({ by: 'label' })), { columns: true }) as Record<string, string>[]
    expect(sum(rows.map(({ asked }) => asked || 0)), 'a column adds up').to.equal(12)
    expect(sum(rows.map((one) => one.money_with || 0))).to.equal(Number(pintle?.with?.money[0]?.amount))
    const byProvider = parse(renderCsv(await stash.report({ by: 'provider' })), {
      columns: true,
    }) as Record<string, string>[]
    expect(sum(byProvider.map((one) => one.money_with || 0))).to.equal(Number(pintle?.with?.money[0]?.amount))
    for (const printed of [renderText(report), renderMarkdown(report), await renderHtml(report)])
      expect(printed).to.include('acme').and.include('no label')
    await clock.run(read(stash.fetch('https://pintle.example/ours/9', { headers: { 'x-tenant': 'late' } })))
    const later = await stash.report({ since: clock.now() - 3_600_000, until: clock.now() + 60_000 })
    expect(
      later.providers[0]?.labels?.map(({ label, with: made }) => [label, made?.asked]),
      'none of before',
    ).to.eql([['late', 1]])
    await read(stash.calling({ label: 'x'.repeat(100) }).fetch('https://pintle.example/asked', { method: 'POST' }))
    const lengths = renderText(await stash.report())
      .split('\n')
      .map((line) => line.length)
    expect(Math.max(...lengths), 'whatever the label').to.be.at.most(80)
    await stash.close()
    const many = new Tally()
    for (let i = 0; i < 300; i++) many.count(`tenant ${i}`, (tally) => void tally.hit++)
    const both = Tally.from(sumTallies(many.toJSON(), many.toJSON()))
    expect([both.hit, both.parts.size, both.parts.get('tenant 5')?.hit, both.parts.get('(others)')?.hit]).to.eql([600, 101, 2, 400])
    expect(isTally(both.toJSON())).to.equal(true)
    const counts = fc.record({
      hit: fc.nat(3),
      oldestStaleMs: fc.nat(2),
      tokens: fc.nat(2),
      why: fc.nat(1),
      ms: fc.array(fc.nat(300), { maxLength: 6 }),
    })
    fc.assert(
      fc.property(counts, counts, fc.boolean(), (...[one, other, apart]) => {
        const [first, second] = [one, other].map(({ hit, oldestStaleMs, tokens, why, ms }) => {
          const tally = Object.assign(new Tally(), { hit, oldestStaleMs })
          tally.addUnits('made', { tokens })
          if (why > 0) tally.notStored = { failed: why }
          for (const each of ms) tally.latency.add(each / 7)
          if (apart) tally.count('acme', (its) => void its.stale++)
          return tally
        }) as [Tally, Tally]
        const sum = JSON.stringify(sumTallies(first.toJSON(), second.toJSON()))
        first.merge(second)
        expect(sum).to.equal(JSON.stringify(first))
      }),
    )
    const misplaced = openStash({
      providers: { pintle: { ...providers.pintle, endpoints: { ours: { request: 'GET /x', countBy: 'per' } } } },
    })
    expect(await misplaced.catch((error: Error) => error.message)).to.include('countBy: needs a function "per"')
  })

  it('count providers, endpoints and units of any name, and render nothing but reports', async () => {
    const units = { constructor: { price: '0.1' }, toString: { price: '0.2' } }
    await using stash = await openStash({
      fetch: async () => Response.json({ n: 3, m: 2, text: 'x'.repeat(2_000) }),
      store: memoryStore({ maxBytes: 20_000 }),
      providers: {
        constructor: {
          baseUrl: 'https://a.example',
          plan: { currency: 'EUR', perCall: '0.05', units },
          budgets: [{ money: '12.9' }],
          endpoints: {
            valueOf: { request: 'GET /t/{i}', freshFor: '1 hour', units: { constructor: { at: '/n' }, toString: { at: '/m' } } },
          },
        },
      },
      warn: () => {},
    })
    for (let call = 0; call < 16; call++) await (await stash.fetch(`https://a.example/t/${call % 8}`)).text()
    const report = await stash.report()
    const [made] = report.providers.map(({ endpoints }) => endpoints[0]?.with)
    expect(made).to.deep.include({ asked: 16, refetched: 8, money: [{ currency: 'EUR', amount: '12' }] })
    expect(made?.paidTwice).to.eql([{ currency: 'EUR', amount: '6' }])
    const refused = [0, 1].map((call) => stash.fetch(`https://a.example/t/new-${call}`).catch((error: { code?: string }) => error.code))
    expect((await Promise.all(refused))[1], 'a budget counts them too').to.equal('BUDGET_SPENT')
    for (const no of [undefined, {}, JSON.parse(JSON.stringify(report))])
      for (const render of [renderText, renderCsv])
        expect(() => render(no))
          .to.throw()
          .with.property('code', 'USAGE')
  })

  it('tell minutes apart for two days, hours for 92 and days for ever, and count the same calls whole at any age', async () => {
    const store = lasting()
    const clock = new FastClock(start)
    await play(store, clock, 'reuse', ['a', 'a', 'wait', 'a', 'quote', 'wait', 'wait', 'b'])
    const stash = await openStash({ store, clock, providers: priced, ledger: { zone: 'Europe/Oslo' } })
    const day = 24 * 60 * minute
    const till = (age: number) => clock.sleep(start + age - clock.now())
    await clock.run(
      (async () => {
        const asked = async (options: object) => (await stash.report(options)).totals.with?.asked ?? 0
        const hours = async () => (await stash.report({ by: 'hour' })).times?.map(({ from, until, with: its }) => [from, until, its?.asked])
        const [whole, byHour] = [await stash.report(), await hours()]
        expect(byHour).to.eql([
          [new Date('2026-06-30T21:00:00.000Z'), new Date('2026-06-30T22:00:00.000Z'), 4],
          [new Date('2026-06-30T22:00:00.000Z'), new Date('2026-06-30T23:00:00.000Z'), 1],
        ])
        for (const age of [2 * 60 * minute, 1.5 * day]) {
          await till(age)
          const { since, until, totals, providers } = await stash.report()
          expect([since, until, totals], 'nothing was lost').to.eql([whole.since, whole.until, whole.totals])
          expect(providers.map(({ endpoints }) => endpoints)).to.eql(whole.providers.map(({ endpoints }) => endpoints))
          expect(await hours()).to.eql(byHour)
          expect(await asked({ since: start + 5 * minute }), 'a part of an hour').to.equal(3)
        }
        const grains = new Set((await store.ledger.read({ since: 0, until: Number.MAX_SAFE_INTEGER })).map(({ grain }) => grain))
        expect([...grains], 'what a report over a long time reads').to.eql(['day'])
        await till(3 * day)
        expect(await hours()).to.eql(byHour)
        expect(await asked({ since: start + 5 * minute }), 'the hour before has begun').to.equal(1)
        await till(95 * day)
        const old = await stash.report({ by: 'hour' })
        expect(old.totals).to.deep.equal(whole.totals)
        expect(
          old.times?.map(({ from, until }) => [from, until]),
          'cut where days of the zones begin, and where prices came to be known',
        ).to.eql([
          [new Date('2026-06-30T21:30:00.000Z'), new Date('2026-06-30T22:00:00.000Z')],
          [new Date('2026-06-30T22:00:00.000Z'), new Date('2026-07-01T00:00:00.000Z')],
        ])
        expect(old.times?.reduce((sum, { with: its }) => sum + (its?.asked ?? 0), 0)).to.equal(5)
        expect((await stash.report({ by: 'day', zone: 'Europe/Oslo' })).times?.map(({ from, with: its }) => [from, its?.asked])).to.eql([
          [new Date('2026-06-29T22:00:00.000Z'), 4],
          [new Date('2026-06-30T22:00:00.000Z'), 1],
        ])
        await stash.close()
      })(),
    )
  })

  const fits = new Ajv({ strict: false, formats: { 'date-time': /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z$/ } }).compile(
    JSON.parse(readFileSync(new URL('../../schema/report.schema.json', import.meta.url), 'utf8')) as object,
  )
  const expectFit = (report: object) => expect(fits(JSON.parse(JSON.stringify(report))), JSON.stringify(fits.errors)).to.equal(true)

  it('fit the JSON Schema that is shipped, whatever they tell', async () => {
    const store = lasting()
    const clock = new FastClock(start)
    expectFit(await (await reading(store)).report())
    await play(store, clock, 'measure', ['a', 'a', 'quote'])
    expectFit(await (await reading(store)).report({ by: 'hour' }))
    await play(store, clock, 'reuse', ['a', 'break', 'b', 'mend', 'wait', 'a', 'quote'])
    const exchange = { currency: 'EUR', rates: { NOK: '0.085' } }
    const stash = await openStash({ store, clock, providers: { ...priced, free: {} }, exchange, journal: fileJournal(file('calls.jsonl')) })
    for (const by of ['endpoint', 'provider', 'hour', 'day', 'key'] as const) expectFit(await stash.report({ by }))
    const report = await stash.report()
    expect(fits({ ...report, more: 1 })).to.equal(false)
    expect(fits({ ...report, totals: { ...report.totals, without: {} } })).to.equal(false)
    await clock.run(stash.close())
  })

  it('tell all money in one currency where every rate is known, credits that are left, and what limits would have refused', async () => {
    const store = lasting()
    const clock = new FastClock(start)
    const providers: Record<string, ProviderOptions> = {
      ebbline: { plan: { currency: 'EUR', prepaid: { credits: 3, price: '9' } }, limits: [{ calls: 2, per: 'minute', window: 'aligned' }] },
      quayrate: { plan: { currency: 'NOK', perCall: '1.005' } },
    }
    await play(store, clock, 'reuse', ['a', 'a', 'a', 'a', 'a', 'quote', 'wait', 'b', 'c', 'wait', 'd'], providers)
    const told = async (rates: Record<string, string>) => {
      const stash = await openStash({ store, clock, providers, exchange: { currency: 'EUR', rates } })
      return stash.report()
    }
    const { converted, totals, providers: all } = await told({ NOK: '0.085' })
    const [ebbline] = all
    expect(ebbline?.credits).to.eql({ used: 4, bought: 6, left: 2 })
    expect(ebbline?.with?.money).to.eql([{ currency: 'EUR', amount: '18' }])
    expect(ebbline?.without, 'three of five in a minute are refused, and cost no credits').to.deep.include({
      ...{ basis: 'estimated', asked: 8, refused: 3 },
      money: [{ currency: 'EUR', amount: '18' }],
    })
    expect(totals.with?.money).to.have.length(2)
    expect(converted).to.deep.include({
      currency: 'EUR',
      with: { currency: 'EUR', amount: '18.21' },
      without: { currency: 'EUR', amount: '18.21' },
    })
    expect((await told({ USD: '0.9' })).converted, 'not added without a rate').to.equal(undefined)
  })

  it('charge calls in the background and repetitions to their endpoint, and say where that costs more than it saves', () => {
    let broken = 0
    return scene(
      async (now) => {
        const { stash, base, clock } = now
        const good = now.answer
        now.answer = (request, response) => (broken++ % 2 === 0 ? json(() => ({}), 503) : good)(request, response)
        for (let i = 0; i < 3; i++) {
          await (await stash.fetch(`${base}/tides/${i}`)).text()
          await clock.sleep(60_000)
        }
        const report = await stash.report()
        expect(report.providers[0]?.with).to.deep.include({
          asked: 3,
          upstream: 6,
          repeated: 3,
          background: 0,
          money: [{ currency: 'EUR', amount: '0.6' }],
        })
        expect(report.providers[0]?.saved?.money).to.eql([{ currency: 'EUR', amount: '-0.3' }])
        const text = renderText(report)
        expect(text).to.include('ebbline.tides costs EUR 0.3 more than without, for 3 repetitions')
        await (await stash.calling({ background: true }).fetch(`${base}/tides/7`)).text()
        await clock.sleep(1_000)
        expect((await stash.report()).totals.with?.background).to.be.above(0)
      },
      {
        provider: {
          plan: { currency: 'EUR', perCall: '0.1' },
          endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '30 s', retries: { upTo: 2, share: 1 }, holdOff: 0 } },
        },
      },
    )
  })

  it('keep what a failing store would not take, and write it later', async () => {
    const store = lasting()
    const works = store.ledger.add.bind(store.ledger)
    let failing = true
    store.ledger.add = (rows) => {
      if (failing) throw new Error('full')
      return works(rows)
    }
    const warnings: string[] = []
    const clock = new FastClock(start)
    const stash = await openStash({ store, clock, warn: (message) => void warnings.push(message) })
    const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
    await clock.run(
      (async () => {
        await withQuickTimers(async () => {
          for (let i = 0; i < 10; i++) {
            await find('Marram')
            await clock.sleep(5_000)
            await clock.errand(pause(10))
          }
          expect((await stash.report()).totals.with?.asked, 'counts that are still in memory').to.equal(10)
          failing = false
          for (let i = 0; i < 100 && (await askedIn(store)) !== 10; i++) {
            await clock.sleep(5_000) // a store that failed is left alone for a while
            await clock.errand(pause(10))
          }
        })
      })(),
    )
    expect(warnings).to.have.length(1)
    expect(warnings[0]).to.include('full')
    expect(await askedIn(store)).to.equal(10)
    await stash.close()
  })
  it('counts answers that were not stored by why, in report, events, metrics and remarks', async () => {
    const told: string[] = []
    const why: Record<string, Record<string, string>> = {
      'too-large': {},
      varies: { vary: '*' },
      secret: { link: '<https://a.example/?token=abcdefgh>; rel=next' },
    }
    await using stash = await openStash({
      fetch: async (input) => {
        const name = new URL(String(input)).pathname.split('/').at(-2) as string
        return new Response(name === 'too-large' ? 'x'.repeat(99) : name, { headers: why[name] })
      },
      providers: {
        ebbline: {
          baseUrl: 'https://tides.ebbline.example',
          endpoints: {
            tides: {
              request: 'GET /{why}/{n}',
              freshFor: '1 hour',
              maxBodyBytes: 50,
            },
          },
        },
      },
      warn: () => {},
    })
    stash.on('not-stored', ({ endpoint, why: reason }) => void told.push(`${endpoint} ${reason}`))
    for (const [name, times] of [
      ['too-large', 3],
      ['varies', 2],
      ['secret', 1],
      ['well', 4],
    ] as const)
      for (let n = 0; n < times; n++) await (await stash.fetch(`https://tides.ebbline.example/${name}/${n}`)).text()
    const report = await stash.report()
    expect(report.totals.with?.upstream).to.equal(10)
    expect(report.totals.with?.notStored).to.eql(report.providers[0]?.endpoints[0]?.with?.notStored)
    expect(told.filter((one) => one === 'tides too-large')).to.have.length(3)
    expect(report.totals.with?.notStored).to.include({ 'too-large': 3, varies: 2, secret: 1 })
    const [endpoint] = report.providers[0]?.endpoints ?? []
    expect(endpoint && remarkOf(endpoint)).to.equal('6 of its answers were not stored, mostly for "too-large"')
    expect(await prometheusText(report)).to.match(/stashen_not_stored_total\{[^}]*why="too-large"\} 3/)
  })
})
