/** Something in requests that keeps their keys apart and, as far as was seen, without need. */
export interface KeySplit {
  /** A request field, or a query parameter with `?` before its name. */
  readonly name: string
  /** `same-answer`: requests that differ in nothing else had the same answer. `never-repeats`: no two requests have the same value. */
  readonly why: 'same-answer' | 'never-repeats'
  /** Keys that would be one with another without it. */
  readonly keys: number
}

/** A part of a request that counts in its key, by name, and its value or a digest of it. */
export type KeyPart = readonly [name: string, value: string]

/** So many keys have to be one without a part before anything is said of it. */
const [leastSame, leastUnrepeated] = [20, 10]

/** Names of query parameters that number, date or randomise requests. */
const numbering = /^\?(_|cb|nocache|cache_?bust(er)?|rand(om)?|ts|timestamp|nonce|.*(request|correlation|trace)_?id)$/i

interface Seen {
  readonly base: string
  readonly parts: ReadonlyMap<string, string>
  readonly answer: string | undefined
}

/** Finds what splits the keys of an endpoint, from its calls. */
export class KeySplits {
  readonly #seen: Seen[] = []

  get size(): number {
    return this.#seen.length
  }

  /** `base`: what else counts in the key. `answer`: the same for the same answer; undefined where there was none. */
  add(base: string, parts: Iterable<KeyPart>, answer: string | undefined): void {
    this.#seen.push({ base, parts: new Map(parts), answer })
  }

  found(): KeySplit[] {
    const names = new Set(this.#seen.flatMap(({ parts }) => [...parts.keys()]))
    return [...names].flatMap((name) => this.#split(name) ?? []).sort((a, b) => b.keys - a.keys)
  }

  #split(name: string): KeySplit | undefined {
    const groups = new Map<string, { readonly values: Set<string | undefined>; readonly answers: Set<string | undefined> }>()
    const values = new Set<string | undefined>()
    let repeats = 0
    for (const { base, parts, answer } of this.#seen) {
      const value = parts.get(name)
      if (value !== undefined && values.has(value)) repeats++
      values.add(value)
      const others = JSON.stringify([base, ...[...parts].filter(([other]) => other !== name)])
      const group = groups.get(others) ?? { values: new Set(), answers: new Set() }
      groups.set(others, group)
      group.values.add(value)
      group.answers.add(answer)
    }
    const keys = [...groups.values()].reduce((sum, group) => sum + group.values.size - 1, 0)
    const isSame = [...groups.values()].every(({ values, answers }) => values.size === 1 || (answers.size === 1 && !answers.has(undefined)))
    if (isSame && keys >= leastSame) return { name, why: 'same-answer', keys }
    const mayNumber = !name.startsWith('?') || numbering.test(name)
    return repeats === 0 && mayNumber && keys >= leastUnrepeated ? { name, why: 'never-repeats', keys } : undefined
  }
}

/** What to do about a split, in words, with the line that leaves the part out. `place`: the endpoint. */
export function splitAdvice(place: string, { name, why, keys }: KeySplit): string {
  const isParameter = name.startsWith('?')
  const line = isParameter ? `query: { except: ['${name.slice(1)}'] }` : `headers: { except: ['${name}'] }`
  const what = isParameter ? `the query parameter "${name.slice(1)}"` : `the request field "${name}"`
  const seen = why === 'same-answer' ? 'and has never changed a response' : 'and never repeats'
  return `${what} of ${place} counts in its keys ${seen}: ${keys} requests could have had a stored response; if it chooses none, leave it out with keyedBy: { ${line} }`
}

/** The parts of a key, as `requestKey` makes it: the query parameters and request fields, and what is left. */
export function partsOfKey(key: string): { readonly base: string; readonly parts: readonly KeyPart[] } | undefined {
  const [, method, url, rest] = /^([A-Z]+) (\S+)(.*)$/s.exec(key) ?? []
  if (method === undefined || url === undefined || rest === undefined || !url.includes('://')) return undefined
  const parts: KeyPart[] = []
  const [path = '', query = ''] = url.split('?', 2)
  for (const parameter of query === '' ? [] : query.split('&')) {
    const [name = ''] = parameter.split('=', 1)
    parts.push([`?${name}`, parameter.slice(name.length + 1)])
  }
  const base = rest
    .replace(hiddenParameter, (_, name: string, digest: string) => taken(parts, name, digest))
    .replace(fieldPart, (whole, name: string, value: string) => (name === 'per' ? whole : taken(parts, name, value)))
  return { base: `${method} ${path}${base}`, parts: byName(parts) }
}

const hiddenParameter = / (\?[^ :]+):([0-9a-f]{64})/g
const fieldPart = / ([\w!#$%&'*+.^`|~-]+):("(?:[^"\\]|\\.)*")/g

function taken(parts: KeyPart[], name: string, value: string): string {
  parts.push([name, value])
  return ''
}

/** Parameters of one name are one part. */
export function byName(parts: readonly KeyPart[]): KeyPart[] {
  const all = new Map<string, string>()
  for (const [name, value] of parts) all.set(name, all.has(name) ? `${all.get(name)}&${value}` : value)
  return [...all]
}

/** Bytes of a body that are compared, from its beginning and its end. */
const comparedBytes = 4_096

/** A text that is another for another body, as good as always (FNV-1a, twice). */
export function sketchOf(body: Uint8Array): string {
  let [one, two] = [0x811c9dc5, 0x01000193]
  const mix = (byte: number) => {
    one = Math.imul(one ^ byte, 0x01000193)
    two = Math.imul(two ^ byte, 0x85ebca6b) ^ (two >>> 13)
  }
  body.subarray(0, comparedBytes).forEach(mix)
  if (body.byteLength > comparedBytes) body.subarray(Math.max(comparedBytes, body.byteLength - comparedBytes)).forEach(mix)
  return `${body.byteLength} ${one >>> 0} ${two >>> 0}`
}
