import { UsageError } from '../core/errors/setup-errors.js'

/** For options that may be repeated. */
export function collect(value: string, before: readonly string[]): string[] {
  return [...before, value]
}

/** A header field as it is written on the command line. */
export function fieldOf(text: string): [string, string] {
  const [, name, value] = /^([^\s:]+):\s*(.*)$/.exec(text) ?? []
  if (name === undefined || value === undefined)
    throw new UsageError(`"${text}" is not a header field: give name and value, e.g. -H "accept-language: no"`)
  return [name, value]
}

/** A URL as it is written on the command line. */
export function urlOf(text: string): string {
  if (!URL.canParse(text) || !/^https?:$/.test(new URL(text).protocol))
    throw new UsageError(`"${text}" is not an absolute URL: give one, e.g. https://tides.ebbline.example/v2/stations`)
  return text
}
