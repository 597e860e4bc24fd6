import { expect } from 'chai'
import type { Store } from '../core/ports/store.js'
import { claimsContract } from './claims-contract.js'
import { entryContract } from './entry-contract.js'
import { ledgerContract } from './ledger-contract.js'
import { manyEntriesContract } from './many-entries-contract.js'
import { recordsContract } from './records-contract.js'
import { usageContract } from './usage-contract.js'

/** One thing that every store has to hold to. */
export interface ContractCase {
  /** A sentence about the store, e.g. `keeps an entry in place of the one under its key`. */
  readonly name: string
  /** Rejects, with what was expected, where the store does not hold to it. Opens a store of its own and closes it. */
  run(): Promise<void>
}

/**
 * What a store has to hold to, as cases for any test runner; importing it runs nothing. `make` returns a new, empty store each time.
 * `digestsKeys`: whether it keeps keys digested, so that it lists entries in another order than that of their keys. `many`: how many
 * entries there are where it matters, 100 at the least; a store that works in pieces should have some. Default 1,050. Needs the package `chai`.
 *
 * ```ts
 * import { storeContract } from 'stashen/testing'
 * for (const { name, run } of storeContract(() => myStore())) it(name, run)
 * ```
 */
export function storeContract(make: () => Store | Promise<Store>, { digestsKeys = false, many = 1_050 } = {}): ContractCase[] {
  const cases = [
    ...entryContract,
    ...manyEntriesContract(digestsKeys, 7 * Math.ceil(many / 7)),
    ...usageContract,
    ...claimsContract,
    ...recordsContract,
    ...ledgerContract,
    ...lifeCycle,
  ]
  return cases.map(([name, check]) => ({
    name,
    async run() {
      const store = await make()
      await store.open({ now: 0, warn: () => {} })
      try {
        await check(store)
      } finally {
        await store.close()
      }
    },
  }))
}

const lifeCycle: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'keeps its three parts apart: dropping all entries leaves records and ledger alone',
    async ({ entries, records, ledger }) => {
      await records.update('a', 0, () => ({ value: '1', keepUntil: 10 }))
      await ledger.addFacts({ provider: 'ebbline', endpoint: null, since: 1 })
      while ((await entries.remove({ all: true })).more);
      while ((await entries.sweep(Number.MAX_SAFE_INTEGER)).more);
      expect([...(await records.records('', 0))], 'records').to.eql([['a', '1']])
      expect(await ledger.facts(), 'facts').to.have.length(1)
    },
  ],
]
