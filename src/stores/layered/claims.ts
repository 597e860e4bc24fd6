import type { Claim, ClaimEnd, Claimed, Claiming, Claims } from '../../core/ports/claims.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'

/** The claims of the far store. Whoever hears that another has stored an answer finds no older copy of it. */
export class LayeredClaims implements Claims {
  readonly show: Claims['show']
  readonly watch: Claims['watch']
  readonly #far: Claims
  readonly #isChanged: (key: string) => void

  constructor(far: Claims, isChanged: (key: string) => void) {
    this.#far = far
    this.#isChanged = isChanged
    this.show = far.show?.bind(far)
    this.watch = far.watch?.bind(far)
  }

  take(claiming: Claiming): Maybe<Claimed> {
    const heard = (claimed: Claimed) => {
      if (claimed.result === 'changed') this.#isChanged(claiming.key)
      return claimed
    }
    const claimed = this.#far.take(claiming)
    return claimed instanceof Promise ? claimed.then(heard) : heard(claimed)
  }

  end(claim: Claim, how: ClaimEnd): Maybe<void> {
    return this.#far.end(claim, how)
  }

  look(claim: Claim): Maybe<ClaimEnd | undefined> {
    const heard = (how: ClaimEnd | undefined) => {
      if (how !== undefined) this.#isChanged(claim.key)
      return how
    }
    const how = this.#far.look(claim)
    return how instanceof Promise ? how.then(heard) : heard(how)
  }

  drop(selection: Selection): Maybe<void> {
    return this.#far.drop(selection)
  }
}
