import type { Claim, ClaimEnd, Claimed, Claiming, Claims, Shown } from '../../core/ports/claims.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Guard } from './guard.js'

/** Where the store fails each process asks for itself. */
export class GuardedClaims implements Claims {
  readonly show: Claims['show']
  readonly watch: Claims['watch']
  readonly #claims: Claims
  readonly #guard: Guard

  constructor(claims: Claims, guard: Guard) {
    this.#claims = claims
    this.#guard = guard
    if (!claims.show || !claims.watch) return
    this.show = (...asked) => guard.attemptIfOpen<boolean>(() => claims.show?.(...asked) ?? false, false)
    this.watch = (...asked) => guard.attemptIfOpen<Shown | undefined>(() => claims.watch?.(...asked), undefined)
  }

  /** One that the store gives too late is given back: whoever asked went on without, and the store would hold it for good. */
  take(claiming: Claiming): Maybe<Claimed> {
    let isGivenUp = false
    let taken: Claim | undefined
    const take = () => {
      const taking = this.#claims.take(claiming)
      const came = (claimed: Claimed) => {
        if (claimed.result !== 'taken') return
        if (isGivenUp) void this.end(claimed.claim, 'over')
        else taken = claimed.claim
      }
      if (taking instanceof Promise) taking.then(came, () => {})
      return taking
    }
    const claimed = this.#guard.attemptIfOpen<Claimed>(take, { result: 'none' })
    if (!(claimed instanceof Promise)) return claimed
    return claimed.then((one) => {
      isGivenUp = one.result === 'none'
      if (isGivenUp && taken) void this.end(taken, 'over')
      return one
    })
  }

  /** Also while the store is left alone: it has to know that the claim is to be held no longer. */
  async end(claim: Claim, how: ClaimEnd): Promise<void> {
    if (!this.#guard.isOpen) return
    try {
      await this.#claims.end(claim, how)
    } catch {
      // it runs out
    }
  }

  look(claim: Claim): Maybe<ClaimEnd | undefined> {
    return this.#guard.attemptIfOpen<ClaimEnd | undefined>(() => this.#claims.look(claim), 'not-stored')
  }

  drop(selection: Selection): Maybe<void> {
    return this.#guard.attemptIfOpen(() => this.#claims.drop(selection), undefined)
  }
}
