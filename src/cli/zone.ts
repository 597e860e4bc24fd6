import { UsageError } from '../core/errors/setup-errors.js'

export function localZone(): string {
  return new Intl.DateTimeFormat().resolvedOptions().timeZone
}

export function knownZone(zone: string): string {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: zone }).resolvedOptions().timeZone
  } catch {
    throw new UsageError(`"${zone}" is not a time zone: give an IANA name with --zone, e.g. "Europe/Oslo"`)
  }
}
