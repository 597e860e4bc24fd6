import type { Store } from '../core/ports/store.js'

/** How long examples of outdated answers are kept, milliseconds. */
const keepForMs = 400 * 86_400_000

/** Adds the counts of an open store, and its examples of outdated answers, to another, which is opened for it at `now` and closed. */
export async function copyLedger(source: Store, target: Store, now: number): Promise<void> {
  await target.open({ now, warn() {} })
  try {
    const all = { since: Number.MIN_SAFE_INTEGER, until: Number.MAX_SAFE_INTEGER }
    for (const details of [false, true]) await target.ledger.add(await source.ledger.read({ ...all, details }))
    for (const facts of await source.ledger.facts()) await target.ledger.addFacts(facts)
    for (const [name, value] of await source.records.records('outdated ', now))
      await target.records.update(name, now, () => ({ value, keepUntil: now + keepForMs }))
  } finally {
    await target.close()
  }
}
