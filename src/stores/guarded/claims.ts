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
