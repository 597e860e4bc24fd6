import * as z from 'zod/mini'
import type { HarEntry, HarSignpost } from '../core/entries/har.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import { jsonOf } from '../core/rules/json-of.js'
import { endpointPath } from './cross-checks.js'

const time = z.number()
const times = {
  ...{ storedAt: time, bornAt: time, freshUntil: time, refreshableUntil: time, usableUntil: time, keepUntil: time },
  ...{ mustRevalidate: z.boolean(), invalidated: z.boolean() },
}
const entry = {
  ...{ key: z.string().check(z.minLength(1)), provider: z.string(), endpoint: z.string(), ...times },
  units: z.optional(z.record(z.string(), z.number())),
  labels: z.optional(z.array(z.string())),
  price: z.optional(z.object({ currency: z.string(), amount: z.string() })),
}
const pairs = z.array(z.object({ name: z.string(), value: z.string() }))
const extra = z.object({
  ...entry,
  head: z.union([z.string(), z.object({ url: z.optional(z.string()), freshBy: z.optional(z.string()) })]),
})

/** What of an archive is read. */
const har = z.object({
  log: z.object({
    entries: z.array(
      z.object({
        startedDateTime: z.string().check(z.refine((text) => !Number.isNaN(Date.parse(text)), 'is not a time: write ISO 8601')),
        time: z.number(),
        request: z.object({
          ...{ method: z.string(), url: z.string(), headers: pairs },
          postData: z.optional(z.object({ text: z.optional(z.string()) })),
        }),
        response: z.object({
          ...{ status: z.number(), statusText: z.string(), headers: pairs },
          content: z.object({ size: z.number(), mimeType: z.string(), text: z.optional(z.string()), encoding: z.optional(z.string()) }),
        }),
        _stashen: z.optional(extra),
      }),
    ),
    _stashen: z.optional(z.object({ signposts: z.array(z.object({ ...entry, head: z.string().check(z.startsWith('{"to":')) })) })),
  }),
})

/** An archive that was checked. */
export interface Har {
  readonly entries: readonly HarEntry[]
  readonly signposts: readonly HarSignpost[]
}

/** Reads an HTTP Archive, as JSON or its text. Throws code `USAGE` that says where it is none. */
export function parsedHar(given: unknown): Har {
  let json = given
  if (typeof given === 'string') {
    try {
      json = jsonOf(given.replace(/^\ufeff/, ''), 'it')
    } catch (cause) {
      throw new UsageError(`this is not an HTTP Archive (HAR): ${(cause as Error).message}`, { cause })
    }
  }
  const { data, error } = har.safeParse(json, { reportInput: true })
  if (data) return { entries: data.log.entries as readonly HarEntry[], signposts: data.log._stashen?.signposts ?? [] }
  const issue = error.issues[0] as z.core.$ZodIssue
  const at = endpointPath(issue.path)
  throw new UsageError(`this is not an HTTP Archive (HAR 1.2): ${at === '' ? 'it' : `"${at}"`} ${faultOf(issue)}`)
}

function faultOf({ code, input, message, ...issue }: z.core.$ZodIssue): string {
  if (code !== 'invalid_type' || !message.startsWith('Invalid input')) return message.startsWith('is ') ? message : `is wrong: ${message}`
  const { expected } = issue as { readonly expected?: string }
  return input === undefined ? `is missing, which has to be ${expected}` : `is ${shown(input)}, not ${expected}`
}
