import { randomUUID } from 'node:crypto'
import {
  type Claim,
  type ClaimEnd,
  type Claimed,
  type Claiming,
  type Claims,
  claimMs,
  endSeenMs,
  type Shown,
} from '../../core/ports/claims.js'
import type { Selection } from '../../core/ports/selection.js'
import { HeldClaims } from '../held-claims.js'
import { dropClaimsScript, endScript, extendScript, holdsScript, lookScript, takeScript, unknownLabels } from './claim-scripts.js'
import { accountOf, labelsText, meantBy } from './entry-form.js'
import type { RedisLink, Script } from './link.js'
import { type Places, slotOf } from './places.js'
import { Showing } from './showing.js'

/** How long a claim is kept by which nothing came, milliseconds: until then its answer is stored, if nobody else took the claim. */
const keptMs = 3_600_000

/** Claims on keys, by the clock of the server. */
export class RedisClaims implements Claims {
  readonly #link: RedisLink
  readonly #places: Places
  readonly #showing: Showing
  readonly #held = new HeldClaims((claims) => this.#extend(claims))

  constructor(link: RedisLink, places: Places) {
    this.#link = link
    this.#places = places
    this.#showing = new Showing(link, places)
  }

  show(claim: Claim, from: number, pieces: readonly Uint8Array[]): Promise<boolean> {
    return this.#showing.show(claim, from, pieces)
  }

  watch(claim: Claim, from: number): Promise<Shown | undefined> {
    return this.#showing.watch(claim, from)
  }

  async take({ key, provider, endpoint, labels, storedAt, over }: Claiming): Promise<Claimed> {
    const given = randomUUID()
    const args = [
      ...[key, accountOf({ provider, endpoint }), given, String(storedAt ?? ''), over ? '1' : '0', String(claimMs), String(keptMs)],
      labels === null ? unknownLabels : labelsText(labels),
    ]
    const [result, token] = (await this.#run(slotOf(key), takeScript, args)) as ['taken' | 'held' | 'changed', string]
    if (result === 'changed') return { result }
    const claim = { key, token }
    if (result === 'taken') this.#held.add(claim)
    return { result, claim }
  }

  async end(claim: Claim, how: ClaimEnd): Promise<void> {
    this.#held.delete(claim)
    await this.#run(slotOf(claim.key), endScript, [claim.key, claim.token, how, String(endSeenMs)])
  }

  async look({ key, token }: Claim): Promise<ClaimEnd | undefined> {
    const how = (await this.#run(slotOf(key), lookScript, [key, token, String(claimMs)])) as ClaimEnd | 'held'
    return how === 'held' ? undefined : how
  }

  async drop(selection: Selection): Promise<void> {
    const { kind, name, slots } = meantBy(selection)
    await Promise.all(slots.map((slot) => this.#run(slot, dropClaimsScript, [kind, name])))
  }

  /** Whether a claim on a key elsewhere still holds. */
  async holds({ key, token }: Claim): Promise<boolean> {
    return (await this.#run(slotOf(key), holdsScript, [key, token])) === 1
  }

  /** The answer of a claim is stored. */
  stored(claim: Claim): void {
    this.#held.delete(claim)
  }

  closing(): void {
    this.#held.clear()
  }

  async #extend(claims: readonly Claim[]): Promise<void> {
    const bySlot = new Map<number, string[]>()
    for (const { key, token } of claims) {
      const slot = slotOf(key)
      bySlot.set(slot, [...(bySlot.get(slot) ?? []), key, token])
    }
    await Promise.all([...bySlot].map(([slot, pairs]) => this.#run(slot, extendScript, [String(claimMs), ...pairs])))
  }

  #run(slot: number, script: Script, args: readonly string[]): Promise<unknown> {
    const base = this.#places.entries(slot)
    return this.#link.run(script, `${base}keys`, [base, ...args])
  }
}
