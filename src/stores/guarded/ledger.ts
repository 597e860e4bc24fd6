import type { BillingFacts, LedgerAccount, LedgerRow } from '../../core/ledger/ledger-row.js'
import type { LedgerBatch, LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Guard } from './guard.js'

export class GuardedLedger implements LedgerStore {
  readonly #ledger: LedgerStore
  readonly #guard: Guard
  readonly addLast: LedgerStore['addLast']

  constructor(ledger: LedgerStore, guard: Guard) {
    this.#ledger = ledger
    this.#guard = guard
    this.addLast = ledger.addLast && ((...args) => this.#addLast(...args))
  }

  /** A store in trouble would only keep the process from ending. */
  #addLast(...[rows, batch]: Parameters<NonNullable<LedgerStore['addLast']>>): void {
    if (this.#guard.isOpen && this.#guard.trouble === undefined) this.#ledger.addLast?.(rows, batch)
  }

  add(rows: readonly LedgerRow[], batch?: LedgerBatch): Maybe<void> {
    return this.#guard.write(() => this.#ledger.add(rows, batch))
  }

  read(span: LedgerSpan): Maybe<LedgerRow[]> {
    return this.#guard.read(() => this.#ledger.read(span))
  }

  accounts(): Maybe<LedgerAccount[]> {
    return this.#guard.read(() => this.#ledger.accounts())
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): Maybe<boolean> {
    return this.#guard.write(() => this.#ledger.replace(olds, news))
  }

  drop(span: LedgerSpan): Maybe<boolean> {
    return this.#guard.write(() => this.#ledger.drop(span))
  }

  addFacts(facts: BillingFacts): Maybe<void> {
    return this.#guard.attempt(() => this.#ledger.addFacts(facts), undefined)
  }

  facts(): Maybe<BillingFacts[]> {
    return this.#guard.read(() => this.#ledger.facts())
  }
}
