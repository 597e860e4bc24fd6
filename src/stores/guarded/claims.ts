import type { Claim, ClaimEnd, Claimed, Claiming, Claims } from '../../core/ports/claims.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Guard } from './guard.js'

/** Where the store fails each process asks for itself. */
export class GuardedClaims implements Claims {
  readonly #claims: Claims
  readonly #guard: Guard

  constructor(claims: Claims, guard: Guard) {
    this.#claims = claims
    this.#guard = guard
  }

  take(claiming: Claiming): Maybe<Claimed> {
    return this.#guard.attemptIfOpen<Claimed>(() => this.#claims.take(claiming), { result: 'none' })
  }

  end(claim: Claim, how: ClaimEnd): Maybe<void> {
    return this.#guard.attemptIfOpen(() => this.#claims.end(claim, how), undefined)
  }

  look(claim: Claim): Maybe<ClaimEnd | undefined> {
    return this.#guard.attemptIfOpen<ClaimEnd | undefined>(() => this.#claims.look(claim), 'not-stored')
  }

  drop(selection: Selection): Maybe<void> {
    return this.#guard.attemptIfOpen(() => this.#claims.drop(selection), undefined)
  }
}
