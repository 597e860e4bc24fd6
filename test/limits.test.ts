import { expect } from 'chai'
import fc from 'fast-check'
import type { BoundCall, PermitFacts } from '../src/core/limits/bound.js'
import { loadCalendars } from '../src/core/limits/calendars.js'
import { afterFailure, type HoldOff, heldOffUntil } from '../src/core/limits/hold-off.js'
import { compileLimit, compileQuota, type LimitOptions } from '../src/core/limits/limit.js'
import { begun, ended, type LimitState, roomAgain, roomIn, unused } from '../src/core/limits/limit-state.js'
import { nothingKnown, type ProviderState } from '../src/core/limits/provider-state.js'
import { reportedBy } from '../src/core/limits/reported-limits.js'
import { admit, ended as withEnded, reported as withReported } from './support/provider-play.js'
import { scaled } from './support/scale.js'

const noon = Date.parse('2026-06-30T12:00:00Z')
const second = 1_000
const minute = 60_000

/** One attempt at a call: how long after the one before, when the provider sees it if it goes out, and when its end is known. */
const attempt = fc.record({ after: fc.nat(9_000), seen: fc.nat(3_000), back: fc.nat(3_000), lost: fc.integer({ min: 0, max: 19 }) })

/** Whether a provider that saw calls begin and end at these moments would have refused one, by the letter of its limit. */
function refusals(options: LimitOptions, calls: readonly { readonly seen: number; readonly over: number }[]): number {
  const seen = calls.map((call) => call.seen).sort((a, b) => a - b)
  if (options.atOnce !== undefined) {
    const most = (at: number) => calls.filter((call) => call.seen <= at && at < call.over).length
    return calls.filter((call) => most(call.seen) > options.atOnce).length
  }
  const perMs = minute
  if (options.burst !== undefined) {
    let [level, at] = [options.burst, seen[0] ?? 0]
    return seen.filter((moment) => {
      level = Math.min(options.burst, level + ((moment - at) * options.calls) / perMs)
      at = moment
      if (level < 1 - 1e-9) return true
      level--
      return false
    }).length
  }
  const windows = new Map<number, number>()
  let from = Number.NEGATIVE_INFINITY
  return seen.filter((moment, i) => {
    if (options.window === undefined) return seen.slice(0, i + 1).filter((one) => one > moment - perMs).length > options.calls
    if (moment >= from + perMs) from = options.window === 'aligned' ? Math.floor(moment / perMs) * perMs : moment
    windows.set(from, (windows.get(from) ?? 0) + 1)
    return (windows.get(from) as number) > options.calls
  }).length
}

const kinds: Record<string, LimitOptions> = {
  'a rolling window': { calls: 5, per: 'minute' },
  'an aligned window': { calls: 5, per: 'minute', window: 'aligned' },
  'a fixed window': { calls: 5, per: 'minute', window: 'fixed' },
  'a bucket': { calls: 6, per: 'minute', burst: 3 },
  'calls at once': { atOnce: 2 },
}

before(loadCalendars)

describe('limits', () => {
  for (const [name, options] of Object.entries(kinds)) {
    it(`of ${name} are never passed, whatever calls take on their way and back, and let calls out again (property)`, () => {
      const limit = compileLimit(options)
      fc.assert(
        fc.property(fc.array(attempt, { minLength: 20, maxLength: 80 }), (attempts) => {
          let now = noon
          let state: LimitState = unused
          let flying: { over: number; until: number; told: boolean }[] = []
          const made: { seen: number; over: number }[] = []
          for (const { after, seen, back, lost } of attempts) {
            now += after
            for (const call of flying.filter(({ over, told }) => told && over <= now).sort((a, b) => a.over - b.over)) {
              state = ended(limit, JSON.parse(JSON.stringify(state)), call.over, call.until)
            }
            flying = flying.filter(({ over, until, told }) => (told ? over : until) > now)
            if (roomIn(limit, state, now, false) < 1) {
              const again = roomAgain(limit, state, now, false)
              expect(again.at).to.be.above(now)
              if (again.sure) expect(roomIn(limit, state, again.at + 1, false), 'room when it was said to be').to.be.above(0)
              continue
            }
            const until = now + 10_000
            state = begun(limit, state, now, until)
            const over = now + seen + back
            flying.push({ over, until, told: lost > 0 })
            made.push({ seen: now + seen, over })
          }
          expect(refusals(options, made)).to.equal(0)
          expect(made.length).to.be.at.least(Math.min(2, attempts.length))
        }),
        { numRuns: scaled(30) },
      )
    })
  }

  it('of windows are used to the full, and leave people their share', () => {
    const limit = compileLimit({ calls: 10, per: 'minute', reserved: 0.3 })
    let state = unused
    const took = { inBackground: 0, others: 0 }
    for (; roomIn(limit, state, noon, true) > 0; took.inBackground++)
      state = ended(limit, begun(limit, state, noon, noon + 1), noon, noon + 1)
    for (; roomIn(limit, state, noon, false) > 0; took.others++) state = ended(limit, begun(limit, state, noon, noon + 1), noon, noon + 1)
    expect(took).to.eql({ inBackground: 7, others: 3 })
    expect(roomAgain(limit, state, noon, false)).to.eql({ at: noon + minute, sure: true })
    expect(roomIn(limit, state, noon + minute, false)).to.equal(10)
    const daily = compileLimit({ calls: 1, per: 'day', window: 'aligned', zone: 'Europe/Oslo' })
    const spent = begun(daily, unused, noon, noon + second)
    expect(roomAgain(daily, ended(daily, spent, noon, noon + second), noon, false).at).to.equal(Date.parse('2026-07-01T00:00+02:00'))
  })

  for (const [name, options] of Object.entries(kinds)) {
    it(`of ${name} take little room, however many calls they count`, () => {
      const limit = compileLimit({ ...options, ...(options.atOnce !== undefined ? { atOnce: 5_000 } : { calls: 5_000 }) } as LimitOptions)
      let state = unused
      for (let call = 0; call < 4_000; call++) {
        const now = noon + call * 14
        state = ended(limit, begun(limit, state, now, now + 9_999), now + 5, now + 9_999)
      }
      expect(JSON.stringify(state).length).to.be.below(3_000)
    })
  }

  const date = 'Tue, 30 Jun 2026 12:00:00 GMT'
  /** Fields of an answer at noon, and what they say: calls left, and until when, in seconds from noon. */
  const told: [name: string, fields: Record<string, string>, left: number | undefined, until?: number][] = [
    ['RateLimit', { ratelimit: '"minute";r=3;t=30', 'ratelimit-policy': '"minute";q=90;w=60' }, 3, 30],
    ['RateLimit of several policies', { ratelimit: '"burst";r=9;t=1, "day";r=0;t=7200' }, 0, 7_200],
    ['RateLimit of an earlier draft', { ratelimit: 'limit=90, remaining=4, reset=12' }, 4, 12],
    ['RateLimit that does not parse', { ratelimit: '"minute";r=' }, undefined],
    ['RateLimit without a number left', { ratelimit: '"minute";t=30' }, undefined],
    ['X-RateLimit in seconds', { 'x-ratelimit-remaining': '2', 'x-ratelimit-reset': '45', 'x-ratelimit-limit': '90' }, 2, 45],
    ['X-RateLimit as a moment', { 'x-ratelimit-remaining': '0', 'x-ratelimit-reset': String(noon / 1000 + 300) }, 0, 300],
    ['X-RateLimit as a moment in milliseconds', { 'x-ratelimit-remaining': '0', 'x-ratelimit-reset': String(noon + 300_000) }, 0, 300],
    ['X-RateLimit as a date', { 'x-rate-limit-remaining': '1', 'x-rate-limit-reset': 'Tue, 30 Jun 2026 12:05:00 GMT' }, 1, 300],
    ['X-RateLimit as ISO 8601', { 'x-ratelimit-remaining': '1', 'x-ratelimit-reset': '2026-06-30T14:05:00+02:00' }, 1, 300],
    ['RateLimit-Remaining and -Reset', { 'ratelimit-remaining': '7', 'ratelimit-reset': '20' }, 7, 20],
    [
      'a moment by a clock that is an hour slow',
      { date: 'Tue, 30 Jun 2026 11:00:00 GMT', 'x-ratelimit-remaining': '0', 'x-ratelimit-reset': String(noon / 1000 - 3_540) },
      0,
      60,
    ],
    ['a reset that is over', { 'x-ratelimit-remaining': '0', 'x-ratelimit-reset': String(noon / 1000 - 5) }, undefined],
    ['a reset in ten years', { 'x-ratelimit-remaining': '0', 'x-ratelimit-reset': String(noon / 1000 + 315_360_000) }, undefined],
    ['words', { 'x-ratelimit-remaining': 'many', 'x-ratelimit-reset': 'soon' }, undefined],
  ]
  for (const [name, fields, left, until] of told) {
    it(`are learned from ${name}`, () => {
      const { limits } = reportedBy(200, Object.entries({ date, ...fields }), noon)
      const least = [...limits].sort((a, b) => a.left - b.left)[0]
      expect(least && [least.left, (least.until - noon) / 1000]).to.eql(left === undefined ? undefined : [left, until])
    })
  }

  const waits: [status: number, value: string, seconds: number | undefined][] = [
    [429, '120', 120],
    [503, '120', 120],
    [500, '120', undefined],
    [200, '120', undefined],
    [429, 'Tue, 30 Jun 2026 12:02:00 GMT', 120],
    [429, 'Tue, 30 Jun 2026 11:58:00 GMT', undefined],
    [503, '-5', undefined],
    [503, 'soon', undefined],
    [429, '99999999999', undefined],
  ]
  for (const [status, value, seconds] of waits) {
    it(`take "Retry-After: ${value}" of a ${status} for ${seconds === undefined ? 'nothing' : `${seconds} s`}`, () => {
      const { notBefore } = reportedBy(status, Object.entries({ date, 'retry-after': value }), noon)
      expect(notBefore === undefined ? undefined : (notBefore - noon) / 1000).to.equal(seconds)
    })
  }

  const call: BoundCall = {
    endpoint: 'tides',
    holdOffScope: 'tides',
    limits: [],
    holdOff: { firstMs: second, upToMs: 5 * minute },
    inBackground: false,
    leaseMs: 10_000,
  }

  it('that are told hold for calls whose answers come in any order, and end with their window (property)', () => {
    fc.assert(
      fc.property(fc.nat(12), fc.array(fc.record({ seen: fc.nat(1_000), back: fc.nat(1_000) }), { maxLength: 30 }), (allowed, calls) => {
        let state: ProviderState = nothingKnown
        let [left, refused] = [allowed, 0]
        const out: { permit: PermitFacts; seen: number; back: number; r?: number }[] = []
        for (let now = noon; now < noon + 60_000; now += 250) {
          for (const one of out.filter(({ seen, r }) => seen <= now && r === undefined)) {
            if (left === 0) refused++
            left = Math.max(0, left - 1)
            one.r = left
          }
          for (const one of out.filter(({ back, r }) => back <= now && r !== undefined && r >= 0)) {
            const told = { limits: [{ name: 'minute', left: one.r as number, until: noon + minute }], notBefore: undefined }
            state = withEnded(withReported(state, call, one.permit, told, now), call, one.permit, { how: 'answered', at: now, random: 0 })
            one.r = -1
          }
          const next = out.length === 0 || out.some(({ r }) => r === -1) ? calls[out.length] : undefined
          const admission = next && admit(state, call, now)
          if (next && admission?.admitted) {
            state = admission.state
            out.push({ permit: admission.permit, seen: now + next.seen, back: now + next.seen + next.back })
          }
        }
        expect(refused).to.be.at.most(allowed === 0 ? 1 : 0) // the first call cannot know
        expect(admit(state, call, noon + minute).admitted).to.equal(true)
      }),
    )
  })

  it('of a quota hold back calls in the background, to an even pace', () => {
    const quota = compileQuota({ calls: 240, per: 'day', zone: 'UTC' })
    const spare = { ...call, limits: [quota], inBackground: true }
    let state = nothingKnown
    let made = 0
    for (let admission = admit(state, spare, noon); admission.admitted; admission = admit(state, spare, noon), made++)
      state = admission.state
    expect(made, 'half of the day, half of the quota').to.equal(120)
    expect(admit(state, { ...spare, inBackground: false }, noon).admitted).to.equal(true)
    expect(admit(state, spare, noon + 6 * minute).admitted, 'a call more is due every six minutes').to.equal(true)
  })

  it('holds off longer after each failure, up to a cap; a call that began before the last failure was known tells nothing new', () => {
    let holdOff: HoldOff | undefined
    let now = noon
    const pauses: number[] = []
    for (let failure = 0; failure < 11; failure++) {
      holdOff = afterFailure(holdOff, call.holdOff, { began: now, now, random: 0 })
      const until = heldOffUntil(holdOff, call.holdOff, now) ?? 0
      expect(afterFailure(holdOff, call.holdOff, { began: now - 1, now: now + 1, random: 0 })).to.equal(holdOff)
      pauses.push((until - now) / 1000)
      now = until
    }
    expect(pauses).to.eql([1, 2, 4, 8, 16, 32, 64, 128, 256, 300, 300])
    expect(heldOffUntil(holdOff, call.holdOff, noon - 3_600_000), 'the clock was set back').to.equal(undefined)
    const early = afterFailure(undefined, call.holdOff, { began: now, now, random: 1 })
    expect((early?.until ?? 0) - now, 'chance shortens a pause by up to a quarter').to.equal(750)
  })

  it('holds off a provider when several of its endpoints fail together, and lets one call at a time try whether it is over', () => {
    const other = { ...call, endpoint: 'stations', holdOffScope: 'stations' }
    const fails = (state: ProviderState, which: typeof call, now: number) => {
      const admission = admit(state, which, now)
      if (!admission.admitted) throw new Error(admission.what)
      return withEnded(admission.state, which, admission.permit, { how: 'failed', at: now, random: 0 })
    }
    const third = { ...call, endpoint: 'vessels', holdOffScope: 'vessels' }
    const one = fails(nothingKnown, call, noon)
    expect([admit(one, call, noon).admitted, admit(one, other, noon).admitted]).to.eql([false, true])
    const both = fails(one, other, noon)
    expect(admit(both, third, noon), 'endpoints that did not fail are held off too').to.include({
      admitted: false,
      why: 'held-off',
      providerWide: true,
    })
    const trial = admit(both, third, noon + second)
    expect(trial.admitted).to.equal(true)
    const trying = trial.admitted ? trial.state : both
    for (const which of [call, other, third])
      expect(admit(trying, which, noon + 2 * second).admitted, 'one tries, the others wait').to.equal(false)
    expect(admit(trying, third, noon + second + (call.leaseMs * 17) / 16).admitted, 'a trial that was never heard of ends').to.equal(true)
    const over = trial.admitted ? withEnded(trying, third, trial.permit, { how: 'answered', at: noon + 2 * second, random: 0 }) : both
    expect(over.providerHoldOff).to.equal(undefined)
    expect(admit(over, call, noon + 2 * second).admitted).to.equal(true)
  })
})
