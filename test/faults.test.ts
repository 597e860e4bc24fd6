import { expect } from 'chai'
import { isStashenError, openStash, type ProviderOptions } from 'stashen'
import { HandClock } from './support/hand-clock.js'
import { faults, misbehaving } from './support/misbehaving.js'
import { eventually } from './support/real-upstream.js'

const minute = 60_000
const baseUrl = 'http://harbour.example'

/** What is stored when a call is made: how it was treated, and how long ago it was stored. */
const entryStates: Record<string, { readonly agedMs: number | undefined; readonly neverStale?: boolean }> = {
  absent: { agedMs: undefined },
  fresh: { agedMs: 0 },
  'stale, usable': { agedMs: 30 * minute },
  'stale, too old': { agedMs: 3 * 60 * minute },
  'stale, forbidden': { agedMs: 30 * minute, neverStale: true },
}

/**
 * What a caller gets, by fault and by what is stored. `hit`: the stored answer, fresh. `older`: the stored answer, marked. A number: the
 * upstream's own answer with that status. `error X`: an error of that name or code.
 */
const expected = `
fault                          | absent                 | fresh | stale, usable | stale, too old         | stale, forbidden
no connection                  | error TypeError        | hit   | older         | error TypeError        | error TypeError
a name nobody knows            | error TypeError        | hit   | older         | error TypeError        | error TypeError
no TLS                         | error TypeError        | hit   | older         | error TypeError        | error TypeError
bytes that are no HTTP         | error TypeError        | hit   | older         | error TypeError        | error TypeError
cut before its answer          | error TypeError        | hit   | older         | error TypeError        | error TypeError
hung before its answer         | error UPSTREAM_TIMEOUT | hit   | older         | error UPSTREAM_TIMEOUT | error UPSTREAM_TIMEOUT
hung in its body               | error UPSTREAM_TIMEOUT | hit   | older         | error UPSTREAM_TIMEOUT | error UPSTREAM_TIMEOUT
cut in its body                | error BODY_BROKEN      | hit   | older         | error BODY_BROKEN      | error BODY_BROKEN
fewer bytes than its length    | error BODY_BROKEN      | hit   | older         | error BODY_BROKEN      | error BODY_BROKEN
status 500                     | 500                    | hit   | older         | 500                    | 500
status 503, ask again in 60 s  | 503                    | hit   | older         | 503                    | 503
status 429                     | 429                    | hit   | older         | 429                    | 429
a chosen status, 403           | 403                    | hit   | older         | 403                    | 403
200 with an error inside       | 200                    | hit   | older         | 200                    | 200
JSON that does not parse       | 200                    | hit   | older         | 200                    | 200
any, with the limit reached    | error LIMIT_REACHED    | hit   | older         | error LIMIT_REACHED    | error LIMIT_REACHED
`

/** The table's cells, by fault and by what is stored. */
const cells = new Map(
  expected
    .trim()
    .split('\n')
    .slice(1)
    .map((row) => {
      const [fault = '', ...gets] = row.split('|').map((cell) => cell.trim())
      return [fault, new Map(Object.keys(entryStates).map((state, i) => [state, gets[i]]))]
    }),
)

describe('whatever the upstream does', () => {
  let server: Awaited<ReturnType<typeof misbehaving>>
  before(async () => {
    server = await misbehaving()
  })
  after(() => server.close())

  /** Stores an answer, lets time pass, and makes a call that meets a fault. */
  async function play(fault: string, state: string, limitReached: boolean) {
    const { agedMs, neverStale = false } = entryStates[state] ?? { agedMs: undefined }
    let present = ''
    const clock = new HandClock()
    const provider: ProviderOptions = {
      baseUrl,
      timeout: { firstByte: '5 s', total: '6 s' },
      defaults: { staleIfError: '1 hour' },
      ...(limitReached && { limits: [{ calls: 2, per: 'day' }] }),
      endpoints: {
        tides: {
          request: 'GET /tides/{day}',
          ...{ freshFor: '1 min', maxWait: 0, neverStale },
          failsWhen: { statuses: [403], at: '/error' },
        },
      },
    }
    let heads = 0
    const fetchOf = server.fetchWith(() => present)
    const fetch: typeof globalThis.fetch = async (...request) => {
      const response = await fetchOf(...request)
      heads++
      return response
    }
    await using stash = await openStash({ clock, fetch, providers: { harbour: provider } })
    const name = `${fault} ${state} ${limitReached}`
    const place = encodeURIComponent(name)
    const fill = async (which: string) => void (await (await stash.fetch(`${baseUrl}/tides/${place} ${which}`)).text())
    await fill(agedMs === undefined ? 'other' : 'asked')
    await fill('filler')
    await clock.advance(agedMs ?? 0)
    present = fault
    const reached = server.received.length
    const before = heads
    const began = clock.now()
    const getting = stash
      .fetch(`${baseUrl}/tides/${place} asked`)
      .then(async (response) => ({
        response,
        ...(await response
          .text()
          .then((body) => ({ body }))
          .catch((error: unknown) => ({ error }))),
      }))
      .catch((error: unknown) => ({ error, response: undefined }))
    if (fault.startsWith('hung') && !limitReached && state !== 'fresh') {
      await eventually(() => (fault.endsWith('body') ? heads > before : server.received.slice(reached).includes(`tides/${name} asked`)))
      await clock.advance(6_000)
    }
    const got = await getting
    const tookMs = clock.now() - began
    const { totals } = await stash.report()
    return { got, stash, tookMs, totals, received: server.received.slice(reached) }
  }

  type Played = Awaited<ReturnType<typeof play>>

  function reading({ got, stash }: Played): string {
    if ('error' in got) {
      const code = isStashenError(got.error) ? got.error.code : (got.error as Error).name
      const outcome = stash.outcomeOf(got.response ?? got.error)
      expect(outcome, 'it can be told how the error came').to.include(got.response ? { notStored: 'broke-off' } : { how: 'failed' })
      return `error ${code}`
    }
    const { response, body } = got
    const { how, reason } = stash.outcomeOf(response) ?? {}
    expect(response.headers.get('cache-status')).to.include(`detail=${reason}`)
    if (how !== 'hit' && how !== 'stale') return String(response.status)
    expect(response.headers.get('age')).to.match(how === 'hit' ? /^[0-9]$/ : /^180\d$/)
    expect(body).to.include('asked')
    return how === 'hit' ? 'hit' : 'older'
  }

  it('names every fault of the server in its table', () => {
    expect([...cells.keys()].filter((fault) => !fault.startsWith('any'))).to.have.members(faults)
  })

  for (const limitReached of [false, true]) {
    it(`gives what the table says${limitReached ? ' when a limit is reached' : ''}, in time, and counts it`, async () => {
      for (const fault of faults) {
        const plays = Object.keys(entryStates).map(async (state) => {
          const played = await play(fault, state, limitReached)
          const what = `${fault}, ${state}${limitReached ? ', limit reached' : ''}`
          const row = cells.get(limitReached ? 'any, with the limit reached' : fault)
          expect(reading(played), what).to.equal(row?.get(state))
          expect(played.tookMs, what).to.be.at.most(6_000)
          const { asked = 0, upstream = 0, failed = 0, refused = 0, errored = 0, stale = 0 } = played.totals.with ?? {}
          const isHit = state === 'fresh'
          const isStale = state === 'stale, usable'
          expect({ asked, stale, errored }, what).to.eql({ asked: 3, stale: isStale ? 1 : 0, errored: isHit || isStale ? 0 : 1 })
          expect({ upstream, bad: failed + refused }, what).to.eql(
            limitReached || isHit ? { upstream: 2, bad: 0 } : { upstream: 3, bad: 1 },
          )
        })
        await Promise.all(plays)
      }
    })
  }
})
