/**
 * What JSON text says. Where it is none, the error says where that shows, and shows nothing of it, unlike that of the runtime: errors are written down, and it
 * may hold a secret. `what`: what the text is.
 */
export function jsonOf(text: string, what: string): unknown {
  try {
    return JSON.parse(text)
  } catch (error) {
    const [where = ''] = / at position \d+/.exec((error as Error).message) ?? []
    throw new SyntaxError(`${what} is not JSON${where && `: look${where}`}`)
  }
}
