const knownZones = new Set<string>()

export function isTimeZone(zone: unknown): zone is string {
  if (typeof zone !== 'string') return false
  if (knownZones.has(zone)) return true
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone })
    knownZones.add(zone)
    return true
  } catch {
    return false
  }
}
