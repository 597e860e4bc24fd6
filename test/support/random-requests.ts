import { Chance } from '../../examples/harbour/random.js'
import type { SentRequest } from '../../src/core/rules/keying.js'
import { sentRequest } from '../../src/core/rules/sent-request.js'

/** A request, and what a server that looks at all of it could make of it: the same text where no server could tell it from another. */
export interface RandomRequest {
  readonly request: SentRequest
  readonly sense: string
  /** For messages. */
  readonly text: string
}

interface Parts {
  method: string
  path: string
  query: [name: string, value: string | undefined][]
  fields: Record<string, string>
  body: { type: string; text: string; sense: string } | undefined
}

// biome-ignore format: many words a line
const texts = [
  '', 'a', 'b', 'A', '1', '01', 'ø', '%', '+', ' ', '&', '=', '/', '?', '#', ';', ':', '"', '\\', 'a b', 'null', 'body:1', 'caller:',
  '\u00e9', 'e\u0301'
]
const names = ['a', 'b', 'A', 'day', 'id', 'a[]', 'api_key', 'token', 'x y', 'ø']
// biome-ignore format: many words a line
const fieldNames = [
  'accept', 'accept-language', 'prefer', 'x-api-version', 'authorization', 'cookie', 'x-api-key', 'origin', 'accept-encoding', 'x-locale'
]
const fieldTexts = ['a', 'b', 'a, b', 'a,b', '*/*', 'text/csv', '"', '" accept:"', 'Bearer a', 'Bearer b', 'c=1', 'c=2', '1', '2026-01-01']
// biome-ignore format: many words a line
const numbers = [
  '0', '1', '-1', '1.5', '100', '9007199254740993', '9007199254740992', '0.1', '0.10000000000000001', '1e-400', '1e400', '-0',
  '12345678901234567890'
]

/** Pairs of requests of which the second is the first, or differs from it in one thing or a few. */
export class RandomRequests {
  readonly #chance: Chance

  constructor(seed: number) {
    this.#chance = new Chance(seed, 'requests')
  }

  pair(): [RandomRequest, RandomRequest] {
    const parts = this.#parts()
    const other = structuredClone(parts)
    for (let changes = this.#chance.whole(0, 2); changes > 0; changes--) this.#change(other)
    return [asRequest(parts), asRequest(other)]
  }

  #parts(): Parts {
    const chance = this.#chance
    const list = <T>(most: number, one: () => T) => Array.from({ length: chance.whole(0, most) }, one)
    return {
      method: chance.one(['GET', 'GET', 'POST', 'QUERY', 'PATCH', 'patch']),
      path: list(3, () => chance.one(texts))
        .map(encodeURIComponent)
        .join('/'),
      query: list(3, () => [chance.one(names), chance.one([...texts, undefined])]),
      fields: Object.fromEntries(list(3, () => [chance.one(fieldNames), chance.one(fieldTexts)])),
      body: chance.one([true, false]) ? this.#body() : undefined,
    }
  }

  #body(): Parts['body'] {
    const chance = this.#chance
    const type = chance.one([
      'application/json',
      'application/vnd.kelp+json',
      'text/plain',
      'application/x-www-form-urlencoded',
      'application/json; charset=latin1',
    ])
    if (type.includes('form')) {
      const text = Array.from(
        { length: chance.whole(1, 3) },
        () => `${encodeURIComponent(chance.one(names))}=${chance.one(['a', 'b', '%ff', '%fe', '+', '%20', ''])}`,
      ).join('&')
      return { type, text, sense: text }
    }
    const { text, sense } = this.#json(chance.whole(0, 3))
    return { type, text, sense }
  }

  /** JSON, spaced at random, and what it says: members in the order of names, numbers as they are written. */
  #json(depth: number): { text: string; sense: string } {
    const chance = this.#chance
    const space = () => chance.one(['', '', ' ', '\n'])
    if (depth === 0) {
      const text = chance.one([...numbers, 'null', 'true', 'false', ...texts.map((one) => JSON.stringify(one))])
      return { text, sense: text }
    }
    const items = Array.from({ length: chance.whole(0, 3) }, () => this.#json(chance.whole(0, depth - 1)))
    if (chance.one([true, false]))
      return {
        text: `[${space()}${items.map(({ text }) => text).join(`${space()},`)}]`,
        sense: `[${items.map(({ sense }) => sense).join()}]`,
      }
    const members = items.map((item) => ({ name: JSON.stringify(chance.one(['a', 'b', 'c'])), ...item }))
    const isOdd = new Set(members.map(({ name }) => name)).size < members.length
    const text = `{${members.map(({ name, text }) => `${space()}${name}:${space()}${text}`).join()}}`
    const sorted = [...members].sort((a, b) => (a.name < b.name ? -1 : 1))
    return { text, sense: isOdd ? `twice ${text}` : `{${sorted.map(({ name, sense }) => `${name}:${sense}`).join()}}` }
  }

  #change(parts: Parts): void {
    const chance = this.#chance
    const other = this.#parts()
    const what = chance.one(['method', 'path', 'query', 'order', 'fields', 'field', 'body', 'type'] as const)
    if (what === 'order') parts.query.reverse()
    else if (what === 'field') parts.fields[chance.one(fieldNames)] = chance.one(fieldTexts)
    else if (what === 'type' && parts.body && other.body) parts.body.type = other.body.type
    else if (what !== 'type') Object.assign(parts, { [what]: other[what] })
  }
}

function asRequest({ method, path, query, fields, body }: Parts): RandomRequest {
  const search = query
    .map(([name, value]) => encodeURIComponent(name) + (value === undefined ? '' : `=${encodeURIComponent(value)}`))
    .join('&')
  const url = new URL(`https://tides.ebbline.example/v2/${path}${query.length > 0 ? `?${search}` : ''}`)
  const all: Record<string, string> = { ...fields, ...(body && { 'content-type': body.type }) }
  const sorted = [...query].sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0))
  const said = Object.entries(all).sort(([a], [b]) => (a < b ? -1 : 1))
  return {
    request: sentRequest({
      ...{ method, url, header: (name: string) => all[name] ?? null, fields: said },
      ...(body && { body: new TextEncoder().encode(body.text) }),
    }),
    sense: JSON.stringify([
      method,
      url.pathname,
      query.length > 0,
      sorted.map(([name, value]) => [name, value ?? null, value === undefined]),
      said,
      body && senseOf(body),
    ]),
    text: `${method} ${url.href} ${JSON.stringify(all)} ${body?.text ?? ''}`,
  }
}

/** Under another media type than it was made for, a body means what its bytes are; the order of a form's names says nothing. */
function senseOf({ type, text, sense }: NonNullable<Parts['body']>): string {
  if (type.includes('form')) {
    const nameOf = (field: string) => field.split('=')[0] as string
    return JSON.stringify(text.split('&').sort((a, b) => (nameOf(a) < nameOf(b) ? -1 : nameOf(a) > nameOf(b) ? 1 : 0)))
  }
  return type.includes('json') && !type.includes('latin1') ? sense : text
}
