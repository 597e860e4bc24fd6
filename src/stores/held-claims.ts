import { type Claim, claimMs } from '../core/ports/claims.js'
import type { Maybe } from '../core/ports/maybe.js'

/** Claims that this process holds, which are extended for as long as it does. */
export class HeldClaims {
  readonly #extend: (claims: readonly Claim[]) => Maybe<unknown>
  readonly #held = new Map<string, Claim>()
  #timer: ReturnType<typeof setInterval> | undefined

  constructor(extend: (claims: readonly Claim[]) => Maybe<unknown>) {
    this.#extend = extend
  }

  add(claim: Claim): void {
    this.#held.set(claim.token, claim)
    if (this.#timer !== undefined) return
    this.#timer = setInterval(() => void this.#extendAll(), claimMs / 4)
    ;(this.#timer as { unref?: () => void }).unref?.() // which a browser has not
  }

  delete({ token }: Claim): void {
    this.#held.delete(token)
    if (this.#held.size === 0) this.clear()
  }

  clear(): void {
    this.#held.clear()
    clearInterval(this.#timer)
    this.#timer = undefined
  }

  /** A claim that cannot be extended runs out, if that goes on. */
  async #extendAll(): Promise<void> {
    try {
      await this.#extend([...this.#held.values()])
    } catch {
      // calls say what is wrong with the store
    }
  }
}
