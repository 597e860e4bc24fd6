import type { ServerResponse } from 'node:http'
import type { ProviderOptions } from 'stashen'
import { flightField } from './flight-fetch.js'
import type { Scene } from './upstream.js'

/** How a call was answered: see `readings`. */
type Got = 'asked' | 'checked' | 'reused' | 'stale' | 'behind' | 'fallback' | 'refused' | 'rejected'

/** Header fields, in which `@+60` stands for the HTTP-date 60 s from the present. `null`: left out, where one would be sent. */
type Fields = Readonly<Record<string, string | readonly string[] | null>>

interface Ask {
  readonly method?: string
  readonly head?: Fields
  readonly cache?: string
  readonly redirect?: 'manual'
  /** Path of another row's or of this row's resource, in place of the row's. */
  readonly path?: string
}

/** What the server answers; a text stands for its `Cache-Control`. `"down"`: it breaks the connection. */
export type Answer = string | { readonly status?: number; readonly head?: Fields; readonly takes?: number; readonly ask?: Ask }

/** Seconds since the first call, what is expected, and what is asked and answered where it is not as before. */
export type Step = readonly [
  at: number,
  got: Got,
  more?: Ask & {
    readonly answer?: Answer
    /** Expected `Age`. */
    readonly age?: number
    /** Expected header fields and status, `null` where one must be absent. */
    readonly has?: Readonly<Record<string, string | number | null>>
  },
]

/** The first call of a row is always expected to be "asked". */
export type Row = readonly [section: string, sentence: string, kind: Kind, first: Answer, ...steps: Step[]]

/** The endpoints that rows are played at, by how their answers are kept. */
const endpoints = {
  private: { trust: 'upstream' },
  shared: { trust: 'upstream', shared: true },
  targeted: { trust: 'upstream', shared: true, targetedFields: ['Harbour-Cache-Control', 'CDN-Cache-Control'] },
  both: { trust: 'upstream', freshFor: '60 s' },
  shorter: { trust: 'shorter', freshFor: '60 s', staleIfError: '60 s' },
  rule: { freshFor: '60 s' },
  ruleStale: { freshFor: '60 s', staleWhileRevalidate: '60 s', staleIfError: '10 min' },
  emergency: { trust: 'upstream', staleIfError: '10 min' },
  statuses: { freshFor: '60 s', freshForStatus: { 404: '10 s', 410: '20 s', 301: '30 s', 204: 'never' } },
} as const satisfies Record<string, Omit<NonNullable<Exclude<ProviderOptions['endpoints'], readonly unknown[]>>[string], 'request'>>

type Kind = keyof typeof endpoints

export const providerOfRows: Omit<ProviderOptions, 'baseUrl'> = {
  endpoints: Object.fromEntries(
    Object.entries(endpoints).map(([kind, options]) => [kind, { request: `GET /${kind}/*`, holdOff: 0, ...options }]),
  ),
}

export interface PlayedStep {
  readonly at: number
  readonly got: string
  readonly age: number | undefined
  readonly has: readonly string[]
}

/** Plays a row against the real server of a scene. */
export async function play(
  scene: Scene,
  path: string,
  first: Answer,
  steps: readonly Step[],
): Promise<{ got: PlayedStep[]; expected: PlayedStep[] }> {
  const begin = scene.clock.now()
  const { ask: firstAsk = {} } = typeof first === 'string' ? {} : first
  const got: PlayedStep[] = []
  const expected: PlayedStep[] = []
  let answer = first
  for (const [at, wanted, { answer: next = answer, age, has = {}, ...ask } = {}] of [[0, 'asked', firstAsk] as Step, ...steps]) {
    await scene.clock.sleep(begin + at * 1000 - scene.clock.now())
    answer = next
    let conditional = false
    scene.answer = async (request, response) => {
      conditional = ['if-none-match', 'if-modified-since'].some(
        (name) => request.headers[name] !== undefined && ask.head?.[name] === undefined,
      )
      const { takes = 0 } = typeof answer === 'string' ? {} : answer
      const flight = scene.clock.flight(request.headers[flightField])
      if (takes > 0) {
        flight?.park()
        await scene.clock.sleep(takes * 1000)
        flight?.travel()
      }
      respond(scene, response, answer, request.headers)
    }
    const before = scene.received.length
    const response = await scene.stash.fetch(scene.base + (ask.path ?? path), optionsOf(scene, ask)).catch(() => undefined)
    const reached = scene.received.length > before
    const outcome = response && scene.stash.outcomeOf(response)
    await response?.text()
    await scene.clock.sleep(1)
    const behind = !reached && scene.received.length > before
    const seen = Object.keys(has).map((name) => `${name} ${name === 'status' ? response?.status : response?.headers.get(name)}`)
    got.push({
      ...{ at, has: seen, age: age === undefined ? undefined : Number(response?.headers.get('age')) },
      got: reading(outcome?.how, reached, behind, conditional, response?.status),
    })
    expected.push({ at, got: wanted, age, has: Object.entries(has).map(([name, value]) => `${name} ${value}`) })
  }
  return { got, expected }
}

function reading(
  how: string | undefined,
  reached: boolean,
  behind: boolean,
  conditional: boolean,
  status: number | undefined,
): Got | string {
  if (how === undefined) return 'rejected'
  if (behind) return how === 'stale' ? 'behind' : `${how}, and asked behind`
  if (reached) return how === 'stale' ? 'fallback' : conditional ? 'checked' : 'asked'
  if (how === 'refused' && status === 504) return 'refused'
  return how === 'hit' ? 'reused' : how
}

function optionsOf(scene: Scene, { method, head = {}, cache, redirect }: Ask): RequestInit {
  return { method, headers: pairsOf(scene, head), redirect, cache } as RequestInit
}

function pairsOf({ clock }: Scene, fields: Fields): [string, string][] {
  return Object.entries(fields).flatMap(([name, values]) =>
    values === null ? [] : [values].flat().map((value): [string, string] => [name, dated(value, clock.now())]),
  )
}

/** Puts HTTP-dates in the place of `@+60` and the like; `@850+60` and `@c+60` give the obsolete forms (RFC 9110 section 5.6.7). */
function dated(value: string, now: number): string {
  return value.replace(/@(850|c)?([+-]\d+)/g, (_all, form: string | undefined, seconds: string) => {
    const date = new Date(now + Number(seconds) * 1000)
    const [day = '', dayOfMonth = '', month = '', year = '', time = ''] = date.toUTCString().replace(',', '').split(' ')
    if (form === '850') {
      const long = new Intl.DateTimeFormat('en', { weekday: 'long', timeZone: 'UTC' }).format(date)
      return `${long}, ${dayOfMonth}-${month}-${year.slice(2)} ${time} GMT`
    }
    return form === 'c' ? `${day} ${month} ${dayOfMonth.replace(/^0/, ' ')} ${time} ${year}` : date.toUTCString()
  })
}

function respond(scene: Scene, response: ServerResponse, answer: Answer, asked: NodeJS.Dict<string | string[]>): void {
  if (answer === 'down') {
    response.destroy()
    return
  }
  const { status = 200, head = {} } = typeof answer === 'string' ? { head: { 'cache-control': answer } } : answer
  response.sendDate = false
  const fields = pairsOf(scene, { date: '@+0', ...head })
  for (const [name, value] of fields) response.appendHeader(name, value)
  const has = (name: string) => fields.find(([field]) => field === name)?.[1]
  const { 'if-none-match': tag, 'if-modified-since': since } = asked
  const same = tag !== undefined ? tag === has('etag') : since !== undefined && since === has('last-modified')
  const holds = status === 200 && same
  response.writeHead(holds ? 304 : status)
  response.end(holds || status === 204 || status === 304 ? undefined : `answer ${scene.received.length}`)
}
