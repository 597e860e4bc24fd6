/** The value that a JSON Pointer names (RFC 6901 section 4); undefined where there is none. */
export function atPointer(whole: unknown, pointer: string): unknown {
  const steps = pointer.split('/').slice(1)
  return steps.reduce<unknown>((value, step) => {
    const name = step.replaceAll('~1', '/').replaceAll('~0', '~')
    return typeof value === 'object' && value !== null && Object.hasOwn(value, name) ? (value as Record<string, unknown>)[name] : undefined
  }, whole)
}
