import { randomUUID } from 'node:crypto'
import {
  type Claim,
  type ClaimEnd,
  type Claimed,
  type Claiming,
  type Claims,
  claimMs,
  endSeenMs,
  isClaimSelected,
  type Shown,
} from '../../core/ports/claims.js'
import type { Selection } from '../../core/ports/selection.js'
import { HeldClaims } from '../held-claims.js'
import { conditionOf } from './entry-rows.js'
import { Openers } from './openers.js'
import { Showing } from './showing.js'
import type { SqliteFile } from './sqlite-file.js'

/**
 * Claims on keys, by the clock of the machine, which all processes share. While no other process has the file open they are kept in memory: then nothing
 * is written for them.
 */
export class SqliteClaims implements Claims {
  readonly #file: SqliteFile
  readonly #openers: Openers
  readonly #held = new HeldClaims((claims) => this.#extend(claims))
  /** Those that were taken while no other process had the file open. */
  readonly #private = new Map<string, Claiming & { readonly token: string }>()
  /** How some of these ended. */
  readonly #ended = new Map<string, ClaimEnd>()

  readonly #showing: Showing

  constructor(file: SqliteFile) {
    this.#file = file
    this.#showing = new Showing(file)
    this.#openers = new Openers(file)
  }

  opened(): void {
    this.#openers.opened()
    if (this.#file.readOnly) return
    this.#file.inTransaction(() => {
      this.#file.statement('DELETE FROM claim WHERE until < ?').run(Date.now() - forgottenAfterMs)
      this.#showing.tidy(Date.now())
    })
  }

  closing(): void {
    this.#held.clear()
    this.#openers.closing()
  }

  take(claiming: Claiming): Claimed {
    const { key } = claiming
    const claim = { key, token: randomUUID() }
    if (this.#isAlone()) {
      if (!claiming.over && this.#file.do(() => this.#isChanged(claiming))) return { result: 'changed' }
      const held = this.#private.get(key)
      if (held && !claiming.over) return { result: 'held', claim: { key, token: held.token } }
      this.#private.set(key, { ...claiming, token: claim.token })
      return { result: 'taken', claim }
    }
    const claimed = this.#file.inTransaction(() => this.#take(claiming, claim))
    if (claimed.result === 'taken') this.#held.add(claim)
    return claimed
  }

  #take(claiming: Claiming, claim: Claim): Claimed {
    const { key, provider, endpoint, labels = [], over } = claiming
    const now = Date.now()
    if (!over) {
      if (this.#isChanged(claiming)) return { result: 'changed' }
      const other = this.#file.statement('SELECT token, until, ended FROM claim WHERE key = ?').get(key)
      if (other && other.ended === null && holdsAt(Number(other.until), now))
        return { result: 'held', claim: { key, token: String(other.token) } }
    }
    this.#file
      .statement('INSERT OR REPLACE INTO claim (key, provider, endpoint, labels, token, until, ended) VALUES (?, ?, ?, ?, ?, ?, NULL)')
      .run(key, provider, endpoint, labels && JSON.stringify(labels), claim.token, now + claimMs)
    return { result: 'taken', claim }
  }

  /** Whether another entry is stored than the one that was seen. */
  #isChanged({ key, storedAt }: Claiming): boolean {
    const row = this.#file.list('SELECT stored_at FROM entry WHERE key = ?').get(key)
    return row !== undefined && row[0] !== storedAt
  }

  /** Whether an answer may be stored by a claim. Ask in the transaction that stores it. */
  holds({ key, token }: Claim): boolean {
    if (this.#private.get(key)?.token === token) return this.#openers.noneRemoved() || this.#privateAreOver()
    return this.#file.statement('SELECT 1 FROM claim WHERE key = ? AND token = ? AND ended IS NULL').get(key, token) !== undefined
  }

  /** Another process has removed or invalidated entries, which may have been those of any claim that it did not see. */
  #privateAreOver(): false {
    this.#private.clear()
    return false
  }

  /** The answer of a claim is stored. Call in the transaction that stores it. */
  stored(claim: Claim): void {
    this.#held.delete(claim)
    if (this.#private.get(claim.key)?.token === claim.token) this.#private.delete(claim.key)
    else this.#file.statement('DELETE FROM claim WHERE key = ? AND token = ?').run(claim.key, claim.token)
  }

  end(claim: Claim, how: ClaimEnd): void {
    const { key, token } = claim
    this.#held.delete(claim)
    if (this.#private.get(key)?.token === token) {
      this.#private.delete(key)
      if (this.#ended.size >= mostEnded) this.#ended.clear()
      if (how !== 'over') this.#ended.set(token, how)
      return
    }
    const sql =
      how === 'over'
        ? 'DELETE FROM claim WHERE key = ? AND token = ?'
        : 'UPDATE claim SET until = ?, ended = ? WHERE key = ? AND token = ? AND ended IS NULL'
    const values = how === 'over' ? [key, token] : [Date.now() + endSeenMs, how, key, token]
    this.#file.do(() => this.#file.statement(sql).run(...values))
  }

  look({ key, token }: Claim): ClaimEnd | undefined {
    if (this.#private.get(key)?.token === token)
      return this.#file.do(() => this.#openers.noneRemoved()) || this.#privateAreOver() ? undefined : 'over'
    const found = this.#file.do(() => this.#file.statement('SELECT until, ended FROM claim WHERE key = ? AND token = ?').get(key, token))
    if (!found) return this.#ended.get(token) ?? 'over'
    if (found.ended !== null) return found.ended === 'for-one' ? 'for-one' : 'not-stored'
    return holdsAt(Number(found.until), Date.now()) ? undefined : 'over'
  }

  drop(selection: Selection): void {
    for (const [key, claiming] of this.#private) if (isClaimSelected(selection, claiming)) this.#private.delete(key)
    if (this.#isAlone()) return
    const { where, values } = 'label' in selection ? { where: ofLabel, values: [selection.label] } : conditionOf(selection)
    this.#file.inTransaction(() => {
      this.#openers.removed()
      this.#file.statement(`DELETE FROM claim WHERE ${where}`).run(...values)
    })
  }

  show(claim: Claim, from: number, pieces: readonly Uint8Array[]): boolean {
    return this.#showing.show(claim, from, pieces)
  }

  watch(claim: Claim, from: number): Shown | undefined {
    return this.#showing.watch(claim, from)
  }

  /** Another file took the place of the one that was open. */
  begunAnew(): void {
    this.#private.clear()
    this.#held.clear()
    this.#openers.opened()
  }

  #isAlone(): boolean {
    return this.#openers.areNone()
  }

  #extend(claims: readonly Claim[]): void {
    const now = Date.now()
    this.#file.inTransaction(() => {
      const extend = this.#file.statement('UPDATE claim SET until = ? WHERE key = ? AND token = ? AND ended IS NULL')
      for (const { key, token } of claims) extend.run(now + claimMs, key, token)
    })
  }
}

/** Claims on answers that have a label, or may have. */
const ofLabel = 'labels IS NULL OR EXISTS (SELECT 1 FROM json_each(labels) WHERE value = ?)'

/** How some claims ended that were kept in memory, at the most. */
const mostEnded = 1_000

/** How long after it ran out a claim is forgotten by which nothing came, milliseconds: until then its answer is stored, if nobody else took the claim. */
const forgottenAfterMs = 3_600_000

/** Whether a claim holds; one that would hold longer than any can is of before the clock was set back. */
function holdsAt(until: number, now: number): boolean {
  return until > now && until - now <= Math.max(claimMs, endSeenMs)
}
