import { UsageError } from './setup-errors.js'
import { shown } from './shown.js'

/** Throws code `USAGE` for options that there are not, and for those of `functions` that are none. */
export function assertOptions(of: string, options: object, names: readonly string[], functions: readonly string[] = []): void {
  for (const name of Object.keys(options))
    if (!names.includes(name)) throw new UsageError(`${of} has no option ${shown(name)}: it has ${names.join(', ')}`)
  for (const name of functions) {
    const value = (options as Readonly<Record<string, unknown>>)[name]
    if (value !== undefined && typeof value !== 'function')
      throw new UsageError(`"${name}" of ${of} is ${shown(value)}: give a function, or leave it out`)
  }
}
