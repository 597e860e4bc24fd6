import type { Claim, ClaimEnd, Claimed, Claiming, Claims } from '../../core/ports/claims.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Sealings } from './sealings.js'

/** The claims of a store whose keys are digested. */
export class PackedClaims implements Claims {
  readonly #inner: Claims
  readonly #sealings: Sealings

  constructor(inner: Claims, sealings: Sealings) {
    this.#inner = inner
    this.#sealings = sealings
  }

  take(claiming: Claiming): Maybe<Claimed> {
    const { key, labels } = claiming
    const digested = { ...claiming, key: this.#sealings.digest(key), labels: labels && this.#digestsOf(labels) }
    const named = (claimed: Claimed): Claimed => ('claim' in claimed ? { ...claimed, claim: { ...claimed.claim, key } } : claimed)
    const claimed = this.#inner.take(digested)
    return claimed instanceof Promise ? claimed.then(named) : named(claimed)
  }

  /** By whichever secret another process seals: it may be a while behind. */
  #digestsOf(labels: readonly string[]): string[] {
    return this.#sealings.all.flatMap(({ digests }) => labels.map((label) => digests.ofLabel(label)))
  }

  end(claim: Claim, how: ClaimEnd): Maybe<void> {
    return this.#inner.end(this.#digested(claim), how)
  }

  look(claim: Claim): Maybe<ClaimEnd | undefined> {
    return this.#inner.look(this.#digested(claim))
  }

  drop(selection: Selection): Maybe<void> {
    const dropped = this.#sealings.selections(selection).map((one) => this.#inner.drop(one))
    return dropped.some((one) => one instanceof Promise) ? Promise.all(dropped).then(() => {}) : undefined
  }

  #digested(claim: Claim): Claim {
    return { ...claim, key: this.#sealings.digest(claim.key) }
  }
}
