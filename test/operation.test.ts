import { expect } from 'chai'
import fc from 'fast-check'
import { isStashenError, openStash } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { noon } from './support/upstream.js'

const rule = { freshFor: '1 min', staleIfError: '1 hour' } as const

describe('stash.operation', () => {
  it('reuses the value of a call with the same arguments, keeps it apart from what receivers do to it, and says how it came', async () => {
    const clock = new FastClock(noon)
    await using stash = await openStash({ clock, providers: { skerrylight: { plan: { currency: 'EUR', perCall: '0.01' } } } })
    let calls = 0
    const find = stash.operation(
      'skerrylight.find',
      async (name: string, near?: { lat: number; lon: number }) => ({ name, near: near ?? null, calls: ++calls }),
      rule,
    )
    const first = await find('Marram', { lat: 58, lon: 6 })
    first.name = 'scribbled'
    expect(await find('Marram', { lon: 6, lat: 58 }), 'the order of names says nothing').to.eql({
      name: 'Marram',
      near: { lat: 58, lon: 6 },
      calls: 1,
    })
    const { value, outcome } = await find.withOutcome('Marram', { lat: 58, lon: 6 })
    expect(value.calls).to.equal(1)
    expect(outcome).to.include({ how: 'hit', reason: 'fresh', provider: 'skerrylight', endpoint: 'find', ageMs: 0 })
    expect(outcome.saved).to.eql({ currency: 'EUR', amount: '0.01' })
    expect((await find('Marram')).calls).to.equal(2)
    await clock.run(clock.sleep(61_000))
    expect((await find.withOutcome('Marram')).outcome).to.include({ how: 'forwarded', reason: 'expired', stored: true })
  })

  it('gives the older value while the function fails, the very error where there is none, and ends at the timeout', async () => {
    const clock = new FastClock(noon)
    await using stash = await openStash({ clock, providers: { skerrylight: { timeout: '3 s' } } })
    const mishap = new RangeError('no such vessel')
    let act: () => Promise<string> = async () => 'v-201'
    const find = stash.operation('skerrylight.find', (_name: string) => act(), rule)
    await find('Marram')
    await clock.run(clock.sleep(61_000))
    act = () => Promise.reject(mishap)
    expect((await find.withOutcome('Marram')).outcome).to.include({ how: 'stale', reason: 'upstream-failed', fwd: 'stale' })
    expect(await find('Sandwort').catch((error: unknown) => error)).to.equal(mishap)
    act = () => new Promise(() => {})
    const overdue = await clock.run(find('Sandwort').catch((error: unknown) => error))
    expect(isStashenError(overdue) && [overdue.code, clock.now()]).to.eql(['UPSTREAM_TIMEOUT', noon + 61_000 + 3_000])
  })

  it('calls once for ten thousand simultaneous askers', async () => {
    await using stash = await openStash()
    let calls = 0
    const find = stash.operation('skerrylight.find', async (name: string) => ({ name, calls: ++calls }), rule)
    const answers = await Promise.all(Array.from({ length: 10_000 }, () => find('Marram')))
    expect(calls).to.equal(1)
    expect(new Set(answers).size, 'every asker has an object of its own').to.equal(10_000)
  })

  it('passes on and does not store values that JSON would change', async () => {
    await using stash = await openStash()
    const odd = [
      undefined,
      Number.NaN,
      -0,
      1n,
      new Date(0),
      new Map([[1, 2]]),
      new Uint8Array(2),
      { a: undefined },
      new Array(2),
      new (class Vessel {})(),
    ]
    const find = stash.operation('skerrylight.odd', async (i: number) => odd[i], rule)
    for (const [i, value] of odd.entries()) {
      for (let time = 0; time < 2; time++) {
        const got = await find.withOutcome(i)
        expect(Object.is(got.value, value), String(i)).to.equal(true)
        expect(got.outcome).to.include({ how: 'forwarded', stored: false, notStored: 'not-plain-data' })
      }
    }
  })

  it('gives back exactly any JSON value it stored, and never one call the answer of another (property)', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.array(fc.jsonValue({ maxDepth: 2 }), { maxLength: 3 }), { minLength: 2, maxLength: 6 }),
        async (callsArgs) => {
          await using stash = await openStash()
          const echo = stash.operation('skerrylight.echo', async (...args: unknown[]) => ({ args }), rule)
          for (let time = 0; time < 2; time++) {
            for (const args of callsArgs.map(asJson)) expect(await echo(...args)).to.eql({ args })
          }
        },
      ),
      { numRuns: 60 },
    )
  })

  it('refuses arguments that give no key, with what to do, and takes "keyedBy" instead', async () => {
    await using stash = await openStash()
    const plain = stash.operation('skerrylight.plain', async (_: unknown) => 1, rule)
    const cyclic: Record<string, unknown> = {}
    cyclic.self = cyclic
    for (const argument of [new Date(0), new Map(), 1n, Number.NaN, cyclic, { a: [undefined] }, '\ud800', () => 1]) {
      const error = await plain(argument).catch((thrown: unknown) => thrown)
      expect(isStashenError(error) && error.code, String(argument)).to.equal('ARGUMENTS_UNKEYABLE')
      expect((error as Error).message)
        .to.include('skerrylight.plain')
        .and.include('keyedBy')
    }
    let calls = 0
    const byDay = stash.operation('skerrylight.byDay', async (_at: Date) => ++calls, {
      ...rule,
      keyedBy: (at) => at.toISOString().slice(0, 10),
    })
    expect(await byDay(new Date('2026-06-30T06:00Z'))).to.equal(1)
    expect(await byDay(new Date('2026-06-30T18:00Z'))).to.equal(1)
    expect(await byDay(new Date('2026-07-01T06:00Z'))).to.equal(2)
  })
})

/** Without -0 and names that JSON itself would change. */
function asJson(args: unknown[]): unknown[] {
  return JSON.parse(JSON.stringify(args)) as unknown[]
}
