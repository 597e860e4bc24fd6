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

/** Parameters of a URL that stand in its key as a digest only, so that it cannot be made again. */
const hasHidden = / \?[^ :]+:[0-9a-f]{64}/

/** URLs of GET requests that were asked for most in a time, without credentials; those of different callers count together. */
export async function mostUsedUrls(journal: Pick<Journal, 'read'>, since: number, until: number, most: number): Promise<string[]> {
  const sums = new KeySums(since, until)
  for await (const line of journal.read()) sums.add(line)
  const asked = new Map<string, number>()
  for (const { key, asked: times } of sums.report(Number.POSITIVE_INFINITY).list) {
    const [method, url = ''] = key.split(' ', 2)
    if (method === 'GET' && URL.canParse(url) && !hasHidden.test(key)) asked.set(url, (asked.get(url) ?? 0) + times)
  }
  return [...asked]
    .sort(([, one], [, other]) => other - one)
    .slice(0, most)
    .map(([url]) => url)
}
