import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claim, Claimed, Claiming, Claims } from '../../core/ports/claims.js'

/** Keys of which it is remembered what was stored under them, at the most. */
const mostSeen = 4_096

/**
 * Claims that are asked for while it is looked up what is stored: a call that leaves waits for one round trip less then. Not for keys under which an
 * answer was seen that needs no claim, so that hits cost no more than their look-up.
 */
export class ClaimsAhead {
  readonly #claims: Claims
  readonly #own: Set<string>
  readonly #seen = new Map<string, { readonly storedAt: number; readonly until: number }>()
  readonly #pending = new Set<string>()
  /** Whether the store takes its time, so that anything is to be remembered. */
  #isUsed = false

  /** `own`: tokens of this process. */
  constructor(claims: Claims, own: Set<string>) {
    this.#claims = claims
    this.#own = own
  }

  /** Asks for the claim on a key, unless that is expected to be of no use. */
  ask(claiming: Omit<Claiming, 'storedAt' | 'over'>, now: number): ClaimAhead | undefined {
    const { key } = claiming
    this.#isUsed = true
    const seen = this.#seen.get(key)
    if (this.#pending.has(key) || (seen && seen.until > now)) return undefined
    this.#pending.add(key)
    const all = { ...claiming, storedAt: seen?.storedAt, over: false }
    const taking = Promise.resolve(this.#claims.take(all)).then((claimed) => {
      this.#pending.delete(key)
      if (claimed.result === 'taken') this.#own.add(claimed.claim.token)
      return claimed
    })
    return new ClaimAhead(all, taking, (claim) => {
      this.#own.delete(claim.token)
      void this.#claims.end(claim, 'over')
    })
  }

  /** Notes what is stored under a key, by its times. */
  saw(key: string, times: StoredTimes | undefined): void {
    this.#seen.delete(key)
    if (!times || !this.#isUsed) return
    if (this.#seen.size >= mostSeen) for (const oldest of this.#seen.keys()) if (this.#seen.delete(oldest)) break
    this.#seen.set(key, { storedAt: times.storedAt, until: Math.max(times.freshUntil, times.refreshableUntil) })
  }
}

/** A claim that was asked for before it was known whether there will be a call. */
export class ClaimAhead {
  readonly #claiming: Claiming
  readonly #claimed: Promise<Claimed>
  readonly #end: (claim: Claim) => void
  #isOver = false

  constructor(claiming: Claiming, claimed: Promise<Claimed>, end: (claim: Claim) => void) {
    this.#claiming = claiming
    this.#claimed = claimed
    this.#end = end
  }

  /** What came of it, for a call that saw the same as was expected; undefined for another, and where it was used already. */
  use({ key, storedAt, over }: Claiming): Promise<Claimed> | undefined {
    if (this.#isOver || over || key !== this.#claiming.key || storedAt !== this.#claiming.storedAt) return undefined
    this.#isOver = true
    return this.#claimed
  }

  /** Gives it back, unless it was used. */
  drop(): void {
    if (this.#isOver) return
    this.#isOver = true
    void this.#claimed.then((claimed) => claimed.result === 'taken' && this.#end(claimed.claim))
  }
}
