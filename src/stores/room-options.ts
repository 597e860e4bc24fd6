import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'

/** Throws code `USAGE` unless an option of a store that bounds it is a whole number of at least 1. */
export function checkRoom(options: Readonly<Record<string, number | undefined>>, store: string): void {
  for (const [name, value] of Object.entries(options)) {
    if (value === undefined || (Number.isSafeInteger(value) && value > 0)) continue
    throw new UsageError(`"${name}" of ${store} is ${shown(value)}: give a whole number of at least 1, or leave it out`)
  }
}
