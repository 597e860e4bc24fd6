/** Header fields as pairs, of the list that `node:http` gives of them. */
export function pairsOf(raw: readonly string[]): [string, string][] {
  return Array.from({ length: raw.length / 2 }, (_, i) => [raw[2 * i] as string, raw[2 * i + 1] as string])
}

/** Text of a head, as bytes: a character a byte. */
export function latin1(text: string): Buffer {
  return Buffer.from(text, 'latin1')
}

/** So long bodies are read before their response is handed on, which takes less than a stream. */
export const smallBytes = 65_536
