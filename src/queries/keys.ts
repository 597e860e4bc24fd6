import type { KeysReport } from '../core/ledger/keys-report.js'
import { KeySums } from '../core/ledger/top-keys.js'
import type { Journal } from '../core/ports/journal.js'

/** Keys told of, at the most. */
const mostKeys = 20

/** What a journal says of the keys that were asked for in a time. */
export async function readKeys(journal: Pick<Journal, 'read'>, since: number, until: number): Promise<KeysReport> {
  const sums = new KeySums(since, until)
  for await (const line of journal.read()) sums.add(line)
  return sums.report(mostKeys)
}
