/** The methods of what only code can give, by where they stand. */
const shapes = {
  store: [
    ...['open', 'close', 'entries.get', 'entries.put', 'entries.updateTimes', 'entries.invalidate', 'entries.remove', 'entries.trim'],
    ...['entries.list', 'entries.sweep', 'entries.size', 'records.update', 'records.records', 'records.sweep', 'ledger.add', 'ledger.read'],
    ...['ledger.replace', 'ledger.drop', 'ledger.addFacts', 'ledger.facts'],
  ],
  clock: ['now', 'ticks', 'later'],
  journal: ['write', 'read', 'close'],
} as const

/** What is wrong with a store, clock or journal that was handed in; undefined where nothing is. */
export function shapeFault(kind: keyof typeof shapes, value: unknown): string | undefined {
  if (typeof value !== 'object' || value === null) return undefined // which is said otherwise
  if (isPromise(value)) return 'is a promise: wait for it first, with "await"'
  const missing = shapes[kind].filter((path) => typeof at(value, path.split('.')) !== 'function')
  return missing.length > 0 ? `lacks the method${missing.length > 1 ? 's' : ''} ${missing.join(', ')}` : undefined
}

export function isPromise(value: unknown): boolean {
  return typeof (value as { then?: unknown } | null | undefined)?.then === 'function'
}

function at(value: unknown, path: readonly string[]): unknown {
  return path.reduce<unknown>((one, name) => (one as Record<string, unknown> | null | undefined)?.[name], value)
}
