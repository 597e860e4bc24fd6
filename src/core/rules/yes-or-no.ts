/**
 * What a function of the configuration said that answers yes or no. Throws a `TypeError` for a promise, which would always count as yes.
 * `option`: its name.
 */
export function yesOrNo(said: unknown, option: string): boolean {
  if (typeof (said as { then?: unknown } | null | undefined)?.then === 'function')
    throw new TypeError(`its "${option}" function returned a promise: it has to return true or false at once`)
  return Boolean(said)
}
