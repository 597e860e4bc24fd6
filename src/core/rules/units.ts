import type { Units } from '../money/units.js'
import type { AnswerFacts } from './freshness.js'
import { atPointer } from './json-pointer.js'

/**
 * Where the number of units stands that an answer cost: in its JSON (JSON Pointer, RFC 6901; of server-sent events, that of the last that has
 * it), in a header field, or as a function says.
 * `upTo`: the most that one call can cost, which budgets count on before it leaves; without it, the most that one was seen to cost.
 */
export type UnitSource =
  | { readonly at: string; readonly upTo?: number; readonly header?: undefined }
  | { readonly header: string; readonly upTo?: number; readonly at?: undefined }
  | ((answer: AnswerFacts) => number)

/** By the unit's name in the plan, e.g. `{ tokens: { at: "/usage/tokens" } }`. */
export type UnitSources = Readonly<Record<string, UnitSource>>

/** The units that an answer cost; without those that are not there, or no number from 0 on. Undefined where there are none at all. */
export function unitsOf(sources: UnitSources | undefined, answer: AnswerFacts): Units | undefined {
  if (!sources) return undefined
  const found = Object.entries(sources).flatMap(([name, source]): [string, number][] => {
    const number = numberFrom(source, answer)
    return number >= 0 && Number.isFinite(number) ? [[name, number]] : []
  })
  return found.length > 0 ? Object.fromEntries(found) : undefined
}

/** The most units that one call can cost, as far as that is said. */
export function unitsUpTo(sources: UnitSources = {}): Units {
  return Object.fromEntries(
    Object.entries(sources).flatMap(([name, source]) =>
      typeof source === 'object' && source.upTo !== undefined ? [[name, source.upTo] as const] : [],
    ),
  )
}

function numberFrom(source: UnitSource, answer: AnswerFacts): number {
  try {
    if (typeof source === 'function') return Number(source(answer))
    if (source.header !== undefined) return Number(answer.header(source.header) ?? Number.NaN)
    return numberAt(answer, source.at)
  } catch {
    return Number.NaN
  }
}

function numberAt(answer: AnswerFacts, pointer: string): number {
  const events = answer.events()
  if (events.length === 0) return asNumber(atPointer(answer.json(), pointer))
  for (const { data } of [...events].reverse()) {
    const number = asNumber(atPointer(jsonOr(data), pointer))
    if (!Number.isNaN(number)) return number
  }
  return Number.NaN
}

function jsonOr(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return undefined // such as the word that ends a stream
  }
}

function asNumber(value: unknown): number {
  return typeof value === 'number' || (typeof value === 'string' && value.trim() !== '') ? Number(value) : Number.NaN
}
