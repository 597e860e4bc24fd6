/** What JSON text says. Where it is none, the error shows nothing of it, unlike that of the runtime: errors are written down, and it may hold a secret. */
export function jsonOf(text: string, what: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    throw new SyntaxError(`the body of the ${what} is not JSON`)
  }
}
