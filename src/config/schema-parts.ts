import * as z from 'zod/mini'
import { shown } from '../core/errors/shown.js'
import { isPrice } from '../core/money/money.js'
import { type Duration, durationForms, durationMs } from '../core/time/duration.js'
import { isTimeZone } from '../core/time/time-zone.js'
import { isTimeOfDay } from '../core/time/timetable.js'

export type Issue = { readonly input?: unknown }

/** A value as it was given; of a URL without user, password and query, for credentials may stand there. */
export function received({ input }: Issue): string {
  return shown(
    typeof input === 'string' && /^[a-z]+:\/\//i.test(input) ? input.replace(/\/\/[^/?#]*@/, '//').replace(/\?.*$/s, '?...') : input,
  )
}

/** For editors; the refinement below is what counts. */
export const durationPattern =
  '^\\s*(\\d+(\\.\\d+)?\\s*(m(illi)?s(ec(ond)?s?)?|s(ec(ond)?s?)?|m(in(ute)?s?)?|h((ou)?rs?)?|d(ays?)?|w(eeks?)?|months?|y((ea)?rs?)?)|forever)\\s*$'

export const duration = annotated(
  z
    .union([z.string(), z.literal(0)], { error: noDuration })
    .check(z.refine((value) => durationMs(value as Duration) !== undefined, { error: noDuration })),
  { pattern: durationPattern, examples: ['30 s', '5 min', '1 day', '1 month', 'forever'] },
) as z.ZodMiniType<Duration, Duration>

export function noDuration(issue: Issue): string {
  const { input } = issue
  const bare = typeof input === 'number' || typeof input === 'string' ? /^\s*(\d+(?:\.\d+)?)\s*$/.exec(`${input}`)?.[1] : undefined
  if (bare !== undefined) return `${received(issue)} has no unit (${bare} what?): write "${bare} s", "${bare} min" or "${bare} ms"`
  if (input === 'never') return '"never" is not a valid duration: write reuse: "never" to store nothing'
  return `${received(issue)} is not a valid duration: write ${durationForms}`
}

/** `mistake`: what is wrong with a text, where that is known. */
export function text(
  isRight: (value: string) => boolean,
  wanted: string,
  mistake: (value: string) => string | undefined = () => undefined,
) {
  const error = (issue: Issue) => {
    const known = typeof issue.input === 'string' ? mistake(issue.input) : undefined
    return `${received(issue)} ${known ?? `is not ${wanted}`}`
  }
  return z.string({ error }).check(z.refine(isRight, { error }))
}

export const name = text((value) => /^[A-Za-z][\w-]*$/.test(value), 'a name: letters, digits, "-" and "_", a letter first')
export const pointer = text((value) => value.startsWith('/'), 'a JSON Pointer, e.g. "/name"')

export function oneOf<const T extends readonly string[]>(values: T) {
  return z.enum(values, { error: (issue) => `${received(issue)} is not one of ${values.map((value) => `"${value}"`).join(', ')}` })
}

function kindOf(value: object): string {
  if (typeof (value as { then?: unknown }).then === 'function') return 'a promise'
  return Array.isArray(value) ? 'a list' : 'an object'
}

/** What only code can give: it stands in no file. */
export function part<T>(wanted: string, isRight: (value: unknown) => boolean) {
  // an object is not shown: it was meant for code, and may hold what no message should
  const given = (issue: Issue) => (typeof issue.input === 'object' && issue.input !== null ? kindOf(issue.input) : received(issue))
  return z.custom<T>(isRight, { error: (issue) => `${given(issue)} is not ${wanted}` })
}

/** A schema with what is written into the JSON Schema besides, and what it said before. */
export function annotated<S extends z.ZodMiniType>(schema: S, said: Readonly<Record<string, unknown>>): S {
  const copy = schema.clone(undefined, { parent: true })
  z.globalRegistry.add(copy, said)
  return copy
}

/** A list that nobody changes. */
export function listOf<S extends z.ZodMiniType>(schema: S) {
  return z.readonly(z.array(schema))
}

/** An option, with what editors and the reference say of it; `byDefault`: what holds where it is left out. */
export function option<S extends z.ZodMiniType>(schema: S, description: string, byDefault?: string | number | boolean) {
  return annotated(z.optional(schema), { description, ...(byDefault !== undefined && { default: byDefault }) })
}

/** An option that has to be given. */
export function required<S extends z.ZodMiniType>(schema: S, description: string): S {
  return annotated(schema, { description })
}

export const price = z.string({ error: noPrice }).check(z.refine(isPrice, { error: noPrice }))

function noPrice(issue: Issue): string {
  const { input } = issue
  const isNumber = typeof input === 'number' && Number.isFinite(input) && input >= 0
  if (isNumber) return `${input} is a number, which cannot hold every amount of money: write it in quotes, "${input}"`
  const isComma = typeof input === 'string' && /^\d+,\d+$/.test(input)
  return `${received(issue)} is not a price: write a decimal in quotes, e.g. "${isComma ? input.replace(',', '.') : '0.004'}"`
}
export const yesOrNo = z.boolean({ error: (issue) => `${received(issue)} is neither true nor false` })
export const fieldNames = listOf(text((name) => name !== '', 'a name'))

export const isFunction = (value: unknown) => typeof value === 'function'

function noShare(issue: Issue): string {
  const { input } = issue
  const percent =
    typeof input === 'number' ? input : typeof input === 'string' ? Number(/^\s*(\d+(?:\.\d+)?)\s*%\s*$/.exec(input)?.[1]) : Number.NaN
  return `${received(issue)} is not a share: give a number from 0 to 1, e.g. ${percent > 1 && percent <= 100 ? percent / 100 : 0.1}`
}

export const zone = text(isTimeZone, 'an IANA time zone, e.g. "Europe/Oslo"')
export const timeOfDay = text(isTimeOfDay, 'a time of day, e.g. "06:00"')
export const monthDay = (issue: Issue) => `${received(issue)} is not a day of a month, 1 to 31`

export function noCount(issue: Issue): string {
  return `${received(issue)} is not a whole number of calls above 0`
}

export const callCount = z.int({ error: noCount }).check(z.positive({ error: noCount }))

export const share = z.number({ error: noShare }).check(z.minimum(0, { error: noShare }), z.maximum(1, { error: noShare }))
