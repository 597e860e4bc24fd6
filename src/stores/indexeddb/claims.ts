import {
  type Claim,
  type ClaimEnd,
  type Claimed,
  type Claiming,
  type Claims,
  endSeenMs,
  isClaimSelected,
  type Shown,
} from '../../core/ports/claims.js'
import type { Selection } from '../../core/ports/selection.js'
import { HeldClaims } from '../held-claims.js'
import { bytesOfKey, type Database, type KeptClaim, type Transaction } from './database.js'
import type { Presence } from './presence.js'
import { Showing } from './showing.js'

/**
 * How long after it was extended last a claim holds whose tab is there, milliseconds: tabs that nobody sees do so once in a minute only, and one that the
 * browser has suspended does not at all.
 */
const suspendedAfterMs = 75_000

/** Claims of tabs and workers. One holds as long as whoever has it is there, which a browser says (Web Locks), and extends it. */
export class IndexedDbClaims implements Claims {
  readonly #database: Database
  readonly #presence: Presence
  readonly #held = new HeldClaims((claims) => this.#extend(claims))
  readonly #showing: Showing
  #taken = 0

  constructor(database: Database, presence: Presence) {
    this.#database = database
    this.#presence = presence
    this.#showing = new Showing(database)
  }

  show(claim: Claim, from: number, pieces: readonly Uint8Array[]): Promise<boolean> {
    return this.#showing.show(claim, from, pieces)
  }

  watch(claim: Claim, from: number): Promise<Shown | undefined> {
    return this.#showing.watch(claim, from)
  }

  async take(claiming: Claiming): Promise<Claimed> {
    const { key, provider, endpoint, labels, storedAt, over } = claiming
    const claim = { key, token: `${this.#presence.id}:${++this.#taken}` }
    let gone: string | undefined
    for (;;) {
      const claimed = await this.#database.run(['entries', 'claims'], 'readwrite', async (transaction): Promise<Claimed> => {
        const claims = transaction.objectStore('claims')
        const [held, stored] = await Promise.all([claims.get(key), transaction.objectStore('entries').get(bytesOfKey(key))])
        if (!over) {
          if (stored && stored.storedAt !== storedAt) return { result: 'changed' }
          if (held && held.ended === undefined && held.token !== gone && isExtended(held))
            return { result: 'held', claim: { key, token: held.token } }
        }
        await claims.put({ key, provider, endpoint, labels, token: claim.token, extendedAt: Date.now() }, key)
        return { result: 'taken', claim }
      })
      if (claimed.result === 'taken') this.#held.add(claim)
      if (claimed.result !== 'held' || (await this.#presence.isThere(ownerOf(claimed.claim)))) return claimed
      gone = claimed.claim.token
    }
  }

  /** In a transaction that stores an answer by it: whether it holds; it is ended. */
  async store(transaction: Transaction<'readwrite'>, claim: Claim): Promise<boolean> {
    const { key, token } = claim
    this.#held.delete(claim)
    const claims = transaction.objectStore('claims')
    if (!holds(await claims.get(key), token)) return false
    await claims.delete(key)
    return true
  }

  async end(claim: Claim, how: ClaimEnd): Promise<void> {
    const { key, token } = claim
    this.#held.delete(claim)
    await this.#database.run(['claims'], 'readwrite', async (transaction) => {
      const claims = transaction.objectStore('claims')
      const held = await claims.get(key)
      if (!holds(held, token)) return
      if (how === 'over') await claims.delete(key)
      else await claims.put({ ...held, ended: how, endedAt: Date.now() }, key)
    })
  }

  async look(claim: Claim): Promise<ClaimEnd | undefined> {
    const held = await this.#database.run(['claims'], 'readonly', (transaction) => transaction.objectStore('claims').get(claim.key))
    if (held?.token !== claim.token) return 'over'
    if (held.ended !== undefined) return held.ended
    return isExtended(held) && (await this.#presence.isThere(ownerOf(claim))) ? undefined : 'over'
  }

  async drop(selection: Selection): Promise<void> {
    await this.#database.run(['claims'], 'readwrite', async (transaction) => {
      for (let cursor = await transaction.objectStore('claims').openCursor(); cursor; cursor = await cursor.continue())
        if (isClaimSelected(selection, cursor.value)) await cursor.delete()
    })
  }

  async #extend(claims: readonly Claim[]): Promise<void> {
    await this.#database.run(['claims'], 'readwrite', async (transaction) => {
      const kept = transaction.objectStore('claims')
      for (const { key, token } of claims) {
        const held = await kept.get(key)
        if (holds(held, token)) await kept.put({ ...held, extendedAt: Date.now() }, key)
      }
    })
  }

  closing(): void {
    this.#held.clear()
  }

  /** Forgets those that ended a while ago, or whose tab is gone; for opening. */
  async tidy(): Promise<void> {
    await this.#showing.tidy()
    const all = await this.#database.run(['claims'], 'readonly', (transaction) => transaction.objectStore('claims').getAll())
    for (const claim of all) {
      const isOver = claim.endedAt === undefined ? !(await this.#presence.isThere(ownerOf(claim))) : Date.now() - claim.endedAt > endSeenMs
      if (!isOver) continue
      await this.#database.run(['claims'], 'readwrite', async (transaction) => {
        const claims = transaction.objectStore('claims')
        if ((await claims.get(claim.key))?.token === claim.token) await claims.delete(claim.key)
      })
    }
  }
}

function holds(held: KeptClaim | undefined, token: string): held is KeptClaim {
  return held?.token === token && held.ended === undefined
}

/** One of the time to come is of before the clock was set back. */
function isExtended({ extendedAt }: KeptClaim): boolean {
  return Math.abs(Date.now() - extendedAt) < suspendedAfterMs
}

function ownerOf({ token }: { readonly token: string }): string {
  return token.slice(0, token.lastIndexOf(':'))
}
