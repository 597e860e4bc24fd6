import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Claimed, Claiming, Claims } from '../../core/ports/claims.js'

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

  /** Asks for the claims on the keys under which an answer may belong, the likeliest last; none where a fresh one was seen there. */
  ask(keys: readonly string[], owner: Omit<Claiming, 'key' | 'storedAt' | 'over'>, now: number): ClaimAhead | undefined {
    this.#isUsed = true
    const seen = this.#seen.get(keys.at(-1) as string)
    if (seen && seen.until > now) return undefined
    const asked = keys.filter((key) => !this.#pending.has(key)).map((key) => this.#ask({ ...owner, key }))
    return asked.length === 0 ? undefined : new ClaimAhead(asked)
  }

  #ask(claiming: Omit<Claiming, 'storedAt' | 'over'>): Asked {
    const { key } = claiming
    this.#pending.add(key)
    const all = { ...claiming, storedAt: this.#seen.get(key)?.storedAt, over: false }
    const claimed = Promise.resolve(this.#claims.take(all)).then((claimed) => {
      this.#pending.delete(key)
      if (claimed.result === 'taken') this.#own.add(claimed.claim.token)
      return claimed
    })
    const drop = async () => {
      const done = await claimed
      if (done.result !== 'taken') return
      this.#own.delete(done.claim.token)
      void this.#claims.end(done.claim, 'over')
    }
    return { claiming: all, claimed, drop }
  }

  /** Notes what is stored under a key, by its times. */
  saw(key: string, times: StoredTimes | undefined): void {
    this.#seen.delete(key)
    if (!times || !this.#isUsed) return
    if (this.#seen.size >= mostSeen) for (const oldest of this.#seen.keys()) if (this.#seen.delete(oldest)) break
    this.#seen.set(key, { storedAt: times.storedAt, until: Math.max(times.freshUntil, times.refreshableUntil) })
  }
}

interface Asked {
  readonly claiming: Claiming
  readonly claimed: Promise<Claimed>
  drop(): Promise<void>
}

/** Claims that were asked for before it was known whether there will be a call, of which that uses one. */
export class ClaimAhead {
  readonly #asked: readonly Asked[]
  #isOver = false

  constructor(asked: readonly Asked[]) {
    this.#asked = asked
  }

  /** What came of the one on a key, for a call that saw the same as was expected; undefined for another, and where one was used already. */
  use({ key, storedAt, over }: Claiming): Promise<Claimed> | undefined {
    const used = this.#asked.find(({ claiming }) => claiming.key === key && claiming.storedAt === storedAt)
    if (!used || this.#isOver || over) return undefined
    this.#dropAll(used)
    return used.claimed
  }

  /** Gives them back, unless one was used. */
  drop(): void {
    if (!this.#isOver) this.#dropAll()
  }

  #dropAll(besides?: Asked): void {
    this.#isOver = true
    for (const asked of this.#asked) if (asked !== besides) void asked.drop()
  }
}
