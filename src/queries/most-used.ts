import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import type { Journal } from '../core/ports/journal.js'
import { type Moment, momentForms, momentMs } from '../core/time/moment.js'
import type { MostUsedOptions } from '../stash.js'
import { mostUsedUrls } from './keys.js'

/** The URLs of GET requests that were asked for most. */
export async function mostUsed(
  journal: Pick<Journal, 'read'> | undefined,
  now: number,
  { count = 100, since, until, zone = 'UTC' }: MostUsedOptions,
): Promise<string[]> {
  if (!journal) throw new UsageError('what was used most stands in a journal: give the stash one (fileJournal)')
  const moment = (name: string, given: Moment | undefined, otherwise: number) => {
    const ms = given === undefined ? otherwise : momentMs(given, now, zone)
    if (ms === undefined) throw new UsageError(`"${name}" of mostUsed is ${shown(given)}: give ${momentForms}`)
    return ms
  }
  if (!(Number.isSafeInteger(count) && count > 0))
    throw new UsageError(`"count" of mostUsed is ${shown(count)}: give a whole number of at least 1`)
  return mostUsedUrls(journal, moment('since', since, Number.NEGATIVE_INFINITY), moment('until', until, Number.POSITIVE_INFINITY), count)
}
