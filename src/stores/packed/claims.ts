import type { Claim, ClaimEnd, Claimed, Claiming, Claims, Shown } from '../../core/ports/claims.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Sealing } from './sealing.js'
import type { Sealings } from './sealings.js'

/** The claims of a store whose keys are digested. */
export class PackedClaims implements Claims {
  readonly #inner: Claims
  readonly #sealings: Sealings
  readonly show: Claims['show']
  readonly watch: Claims['watch']

  constructor(inner: Claims, sealings: Sealings) {
    this.#inner = inner
    this.#sealings = sealings
    const { current } = sealings
    if (!inner.show || !inner.watch || !current) return
    this.show = async (claim, from, pieces) => {
      const sealed = await Promise.all(pieces.map((piece, i) => current.sealedPiece(piece, claim.token, from + i)))
      return (await inner.show?.(this.#digested(claim), from, sealed)) === true
    }
    this.watch = async (claim, from) => {
      const shown = await inner.watch?.(this.#digested(claim), from)
      return shown && { ...shown, pieces: await this.#opened(shown.pieces, claim.token, from) }
    }
  }

  take(claiming: Claiming): Maybe<Claimed> {
    const { key, labels } = claiming
    const digested = { ...claiming, key: this.#sealings.digest(key), labels: labels && this.#digestsOf(labels) }
    const named = (claimed: Claimed): Claimed => ('claim' in claimed ? { ...claimed, claim: { ...claimed.claim, key } } : claimed)
    const claimed = this.#inner.take(digested)
    return claimed instanceof Promise ? claimed.then(named) : named(claimed)
  }

  /** Pieces up to the first that no secret opens: nobody can show more of those. */
  async #opened(pieces: Shown['pieces'], token: string, from: number): Promise<Uint8Array[]> {
    const opened: Uint8Array[] = []
    for (const [i, piece] of pieces.entries()) {
      const by = (sealing: Sealing) => sealing.openedPiece(piece, token, from + i).catch(() => undefined)
      const found = (await Promise.all(this.#sealings.all.map(by))).find((one) => one !== undefined)
      if (!found) break
      opened.push(found)
    }
    return opened
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
