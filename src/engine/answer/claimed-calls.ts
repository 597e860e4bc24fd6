import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claim, ClaimEnd, Claiming, Claims, Shown } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Call } from '../call/call.js'
import type { WithAnswer } from '../call/fetched.js'
import type { Relaying } from '../call/relaying.js'
import type { Gate } from '../gate/gate.js'
import type { Ended, Landed } from '../upstream/landed.js'
import { placeOf } from '../upstream/place.js'
import type { UpstreamCalls } from '../upstream/upstream-calls.js'
import type { UpstreamJob } from '../upstream/upstream-job.js'
import { pause } from '../upstream/waiting.js'
import { type ClaimAhead, ClaimsAhead } from './claim-ahead.js'
import { RelayedCall } from './relayed-call.js'
import { isShareable } from './sharing.js'
import { showArriving } from './show-arriving.js'

/** How soon a claim is looked at again that another process has, milliseconds: at first, and at the most. */
const firstLookMs = 2
const laterLookMs = 50

/** It is looked for what is shown of its answer once it has taken so long, milliseconds. */
const watchAfterMs = 50

/** Whose claim it takes to call. */
export interface ClaimTerms {
  /** The key that is looked up. */
  readonly key: string
  /** Whether the claim is taken whoever holds it: what is on its way is not wanted. */
  readonly over: boolean
  /** A claim that is held already. */
  readonly claim?: Claim | undefined
  /** One that was asked for already. */
  readonly ahead?: ClaimAhead | undefined
}

/** Makes upstream calls: one for a key at a time among all processes that share a store, where that knows of claims. */
export class ClaimedCalls {
  readonly #upstream: UpstreamCalls
  readonly #entries: Pick<EntryStore, 'get'>
  readonly #claims: Claims | undefined
  readonly #ahead: ClaimsAhead | undefined
  readonly #gate: Gate
  readonly #clock: Clock
  /** Tokens of this process: it never waits for itself. */
  readonly #own = new Set<string>()

  constructor(upstream: UpstreamCalls, entries: EntryStore, gate: Gate, clock: Clock) {
    this.#upstream = upstream
    this.#entries = entries
    this.#claims = entries.claims
    this.#ahead = entries.claims && new ClaimsAhead(entries.claims, this.#own)
    this.#gate = gate
    this.#clock = clock
  }

  /** Asks for the claims on the keys under which the answer of a call may belong, which may leave. */
  askAhead(call: Call<unknown>, keys: readonly string[]): ClaimAhead | undefined {
    const { endpoint, path, terms } = call
    if (endpoint.mode !== 'reuse' || this.#gate.isHeldOff({ endpoint, path, urgency: terms.urgency })) return undefined
    return this.#ahead?.ask(keys, { provider: endpoint.provider, endpoint: endpoint.name, labels: call.labels }, this.#clock.now())
  }

  /** Notes what is stored under a key, by its times, of a store that takes its time. */
  saw(key: string, times: StoredTimes | undefined): void {
    this.#ahead?.saw(key, times)
  }

  /** The claim on a key; `busy` where another process has it, or has just stored an answer. */
  async take(
    { call, previous }: Pick<UpstreamJob<unknown>, 'call' | 'previous'>,
    key: string,
    ahead?: ClaimAhead,
  ): Promise<Claim | 'busy' | undefined> {
    if (!this.#claims) return undefined
    const claiming = claimingOf(call, { key, storedAt: previous?.storedAt, over: false })
    const claimed = await (ahead?.use(claiming) ?? this.#claims.take(claiming))
    if (claimed.result === 'taken') return this.#owned(claimed.claim)
    return claimed.result === 'none' ? undefined : 'busy'
  }

  /** The claim on a key, whoever has it, and no claim of anybody else on what is under it. */
  async takeOver(call: Owner, key: string): Promise<Claim | undefined> {
    if (!this.#claims) return undefined
    void this.#claims.drop({ under: key })
    const claimed = await this.#claims.take(claimingOf(call, { key, storedAt: undefined, over: true }))
    return claimed.result === 'taken' ? this.#owned(claimed.claim) : undefined
  }

  /** Gives a claim back by which nothing was called. */
  drop(claim: Claim | undefined): void {
    if (!claim) return
    this.#own.delete(claim.token)
    void this.#claims?.end(claim, 'over')
  }

  /** Makes a call by its claim; where another process has that, waits for the end of it instead. */
  make<T>(job: UpstreamJob<T>, terms: ClaimTerms): Promise<Landed<T>> {
    if (!this.#claims || !job.isReusable) return this.#upstream.make(job)
    if (terms.claim) return this.#makeBy(job, this.#claims, terms.claim)
    return this.#claimAndMake(job, this.#claims, terms)
  }

  async #claimAndMake<T>(job: UpstreamJob<T>, claims: Claims, { key, over, ahead: asked }: ClaimTerms): Promise<Landed<T>> {
    const claiming = claimingOf(job.call, { key, storedAt: job.previous?.storedAt, over })
    let taking = asked?.use(claiming) ?? claims.take(claiming)
    const { path } = job.call
    const ahead =
      taking instanceof Promise ? this.#gate.lookAhead({ endpoint: job.call.endpoint, path, urgency: job.terms.urgency }) : undefined
    let claimed = taking instanceof Promise ? await taking : taking
    if (claimed.result === 'held' && this.#own.has(claimed.claim.token)) {
      taking = claims.take({ ...claiming, over: true })
      claimed = taking instanceof Promise ? await taking : taking
    }
    if (claimed.result === 'none') return this.#upstream.make(job)
    if (claimed.result === 'taken') return this.#makeBy({ ...job, ahead }, claims, this.#owned(claimed.claim))
    if (claimed.result !== 'held') return this.#elsewhere(job, undefined)
    const end = await this.#endOf(claims, claimed.claim, job)
    return typeof end === 'object' ? this.#relayed(job, claims, claimed.claim, end, key) : this.#elsewhere(job, end)
  }

  /** Gives what another process shows of an answer; where it cannot be given, waits until it is stored. */
  async #relayed<T>(job: UpstreamJob<T>, claims: Claims, claim: Claim, shown: Shown, key: string): Promise<Landed<T>> {
    const instead = (over: boolean) => this.#claimAndMake(job, claims, { key, over }) as Promise<Landed<never>>
    const relaying = job.call.relaying as Relaying<T>
    const relayed = new RelayedCall(job, relaying, claim, shown, { claims, clock: this.#clock, instead })
    const landed = await relayed.landed().catch(() => undefined)
    return landed ?? this.#elsewhere(job, (await this.#endOf(claims, claim, { ending: job.ending })) as ClaimEnd)
  }

  #owned(claim: Claim): Claim {
    this.#own.add(claim.token)
    return claim
  }

  async #makeBy<T>(job: UpstreamJob<T>, claims: Claims, claim: Claim): Promise<Landed<T>> {
    let isOver = false
    const end = (how: ClaimEnd | undefined) => {
      if (isOver) return
      isOver = true
      this.#own.delete(claim.token)
      if (how !== undefined) void claims.end(claim, how)
    }
    try {
      const landed = await this.#upstream.make({ ...job, claim })
      const { fetched } = landed
      if (!('answer' in fetched)) end(fetched.result === 'abandoned' || job.ending.aborted ? 'over' : 'not-stored')
      else if (!isForAll(job.call, landed, fetched, this.#clock.now())) end('for-one')
      else {
        landed.onEnd((ended) => {
          if ('stored' in ended) this.#ahead?.saw(landed.place.key, ended.stored)
          end('stored' in ended ? undefined : 'abandoned' in ended ? 'over' : 'not-stored')
        })
        void fetched.settled?.then((how) => how === 'outgrown' && end('not-stored'))
        void landed.finished.then(() => end('not-stored'))
        void showArriving(claims, this.#clock, claim, landed)
        return { ...landed, isLost: () => isLost(claims, claim, landed) }
      }
      return landed
    } catch (error) {
      end('over')
      throw error
    }
  }

  /**
   * Waits until a claim of another process is over, or something of its answer is shown that the call can be given, or nobody waits for that any more. An
   * older answer that could take its place, should it break off, needs all of it first.
   */
  async #endOf(
    claims: Claims,
    claim: Claim,
    { ending, call, previous }: Pick<UpstreamJob<unknown>, 'ending'> & Partial<Pick<UpstreamJob<unknown>, 'call' | 'previous'>>,
  ): Promise<ClaimEnd | Shown> {
    const began = this.#clock.ticks()
    const mayRelay = claims.watch !== undefined && previous === undefined && call?.relaying !== undefined
    for (let pauseMs = firstLookMs; !ending.aborted; pauseMs = Math.min(2 * pauseMs, laterLookMs)) {
      await pause(this.#clock, pauseMs, ending)
      if (ending.aborted) break
      const how = await claims.look(claim)
      if (how !== undefined) return how
      const shown = mayRelay && this.#clock.ticks() - began >= watchAfterMs ? await claims.watch?.(claim, 0) : undefined
      if (shown && shown.pieces.length > 0) return shown
    }
    return 'over'
  }

  #elsewhere<T>(job: UpstreamJob<T>, end: ClaimEnd | undefined): Landed<T> {
    const over = Promise.resolve()
    const rest = { place: placeOf(job.call), finished: over, settled: over, attempts: 0, onWhole() {}, onEnd() {} }
    if (job.ending.aborted) return { fetched: { result: 'withheld', error: job.ending.reason, failure: undefined }, ...rest }
    const looked = new Map<string, Maybe<Entry | undefined>>()
    const look = (key: string) => {
      if (!looked.has(key)) looked.set(key, this.#entries.get(key))
      return looked.get(key)
    }
    return { fetched: { result: 'elsewhere', end, look }, ...rest }
  }
}

type Owner = Pick<Call<unknown>, 'endpoint' | 'labels'>

function claimingOf({ endpoint, labels }: Owner, of: Pick<Claiming, 'key' | 'storedAt' | 'over'>): Claiming {
  return { ...of, provider: endpoint.provider, endpoint: endpoint.name, labels }
}

/** Whether a claim was lost before its answer was stored: where that is being stored, the store says so. */
function isLost<T>(claims: Claims, claim: Claim, landed: Landed<T>): Maybe<boolean> {
  let isWhole = false
  landed.onWhole(() => {
    isWhole = true
  })
  if (!isWhole) {
    const how = claims.look(claim)
    return how instanceof Promise ? how.then((end) => end === 'over') : how === 'over'
  }
  let ended: Ended | undefined
  landed.onEnd((one) => {
    ended = one
  })
  const isOutOfDate = () => ended !== undefined && 'notStored' in ended && ended.notStored === 'out-of-date'
  return ended ? isOutOfDate() : landed.finished.then(isOutOfDate)
}

/** Whether an answer is one that callers may share, as far as its head says. */
function isForAll<T>(call: Call<T>, landed: Landed<T>, fetched: WithAnswer<T>, now: number): boolean {
  return !fetched.isStream && isShareable(call, landed, fetched, now) && call.form.canJoin(fetched.answer)
}
