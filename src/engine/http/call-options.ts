import { digestAgain } from '../../core/rules/digest.js'
import { exactText } from '../../core/rules/exact-text.js'
import { isPlainArray, isPlainObject } from '../../core/rules/object-kind.js'
import { members, type RequestSnapshot } from './request-snapshot.js'

/** What of a `fetch` call counts in its key besides the request. */
export interface CallOptionsInKey {
  /** How redirects are met, where that is not by following them. */
  readonly redirect: 'manual' | 'error' | undefined
  /** What may say who calls, as text for a key. */
  readonly connection: string
}

/** Options of `fetch` by which responses differ, and their defaults (Fetch Standard, section 5.4). */
const defaultsOf = { credentials: 'same-origin', integrity: '', mode: 'cors', referrer: 'about:client' } as const

type Options = { readonly [Name in keyof typeof defaultsOf | 'redirect' | 'cache']?: string }

/**
 * The options of a call that keep it apart from others: those by which a browser says who calls, and all that `fetch` itself does not know, such as a `dispatcher`, an
 * agent or a client certificate. Objects are told apart by which they are, so that their calls share no response with another process.
 */
export function callOptionsOf({ input, init }: Pick<RequestSnapshot, 'input' | 'init'>): CallOptionsInKey {
  if (init === undefined && !(input instanceof Request)) return none
  const own = init as (Options & Record<string, unknown>) | undefined
  const request = input instanceof Request ? (input as Options) : undefined
  const of = (name: keyof Options) => own?.[name] ?? request?.[name]
  const redirect = of('redirect')
  let connection = ''
  for (const name of Object.keys(defaultsOf) as (keyof typeof defaultsOf)[]) {
    const value = of(name)
    if (value !== undefined && value !== defaultsOf[name] && value !== 'no-cors')
      connection += ` ${name}:${JSON.stringify(digestAgain(value))}`
  }
  for (const name of Object.keys(own ?? {}).sort()) {
    const isKnown = (members as readonly string[]).includes(name) && name !== 'dispatcher'
    if (!isKnown) connection += part(name, own?.[name])
  }
  const dispatcher = request && own?.dispatcher === undefined ? dispatcherOf(request) : undefined
  connection += part('dispatcher', dispatcher)
  return { redirect: redirect === 'manual' || redirect === 'error' ? redirect : undefined, connection }
}

function part(name: string, value: unknown): string {
  const text = textOf(value)
  return text === '' ? '' : ` option-${encodeURIComponent(name)}:${text}`
}

const none: CallOptionsInKey = { redirect: undefined, connection: '' }

/** The dispatcher that a `Request` was made with, where the runtime lets it be seen: Node before 24. */
function dispatcherOf(request: object): unknown {
  const symbol = Object.getOwnPropertySymbols(request).find(({ description }) => description === 'dispatcher')
  return symbol && (request as Record<symbol, unknown>)[symbol]
}

/** What of an option may say who calls: texts, what has a class of its own, and what holds them; empty for what cannot, such as numbers and functions. */
function textOf(value: unknown, depth = 0): string {
  if (typeof value === 'string') return digestAgain(value)
  if (typeof value !== 'object' || value === null || depth > deepest || saysNothing.some((Kind) => value instanceof Kind)) return ''
  if (ArrayBuffer.isView(value) || value instanceof ArrayBuffer) return digestAgain(exactText(value))
  if (!isPlainArray(value) && !isPlainObject(value)) return numberOf(value)
  const members = Object.entries(value).flatMap(([name, member]) => {
    const text = textOf(member, depth + 1)
    return text === '' ? [] : [[name, text] as const]
  })
  return members.length === 0 ? '' : digestAgain(JSON.stringify(members.sort(([one], [other]) => (one < other ? -1 : 1))))
}

/** How deep options are looked into. */
const deepest = 5

const saysNothing = [AbortSignal, Headers, URLSearchParams, URL, FormData, Blob, Date, Request, Response]

/** Objects that say nothing of what they are, numbered in this process. */
const numbers = new WeakMap<object, string>()
const here = `${Math.random()}`.slice(2, 12)
let numbered = 0

function numberOf(value: object): string {
  let number = numbers.get(value)
  if (number === undefined) {
    number = `${here}-${++numbered}`
    numbers.set(value, number)
  }
  return number
}
