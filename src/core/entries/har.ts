import type { StoredTimes } from '../decide/entry-times.js'
import { fieldValue, type StoredHead } from '../http/stored-head.js'
import type { Money } from '../money/money.js'
import type { Units } from '../money/units.js'
import type { Entry } from '../ports/entry-store.js'

/** Names and values, as HTTP Archive 1.2 has them. */
interface HarPair {
  readonly name: string
  readonly value: string
}

/** A body: text, or bytes in base64 (`encoding`). */
export interface HarContent {
  readonly size: number
  readonly mimeType: string
  readonly text?: string | undefined
  readonly encoding?: string | undefined
}

/** What a stash knows of an entry besides, and has back when it is imported. */
export interface HarExtra extends StoredTimes {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  /** Of an HTTP answer what its head says besides; of others the head itself. */
  readonly head: Pick<StoredHead, 'url' | 'freshBy'> | string
  readonly units?: Units | undefined
  readonly price?: Money | undefined
  readonly labels?: readonly string[] | undefined
}

/** An entry of an archive, as far as it matters here. */
export interface HarEntry {
  readonly startedDateTime: string
  readonly time: number
  readonly request: {
    readonly method: string
    readonly url: string
    readonly headers: readonly HarPair[]
    readonly postData?: { readonly text?: string | undefined } | undefined
  }
  readonly response: {
    readonly status: number
    readonly statusText: string
    readonly headers: readonly HarPair[]
    readonly content: HarContent
  }
  readonly _stashen?: HarExtra | undefined
}

/** An entry that holds no answer (it says where variants are), as it stands in the `_stashen` of an archive. */
export type HarSignpost = Omit<Entry, 'body' | 'memo'>

/** What became of an archive: how many answers were stored, and of the others how many, by why. */
export interface Imported {
  readonly stored: number
  readonly notStored: Readonly<Record<string, number>>
}

/** An entry as an archive has it: HTTP Archive 1.2, with everything that its schema requires. `content` is made of its body. */
export function harEntryOf(entry: Entry, content: (type: string) => HarContent): HarEntry {
  const { key, provider, endpoint, head, body, units, labels, memo, ...times } = entry
  const http = head.startsWith('{') ? (JSON.parse(head) as StoredHead) : undefined
  const [method = '', place = ''] = key.split(' ', 2)
  const isRequest = http !== undefined && /^https?:\/\//.test(place)
  const url = isRequest ? place : `urn:stashen:${encodeURIComponent(`${provider}.${endpoint}`)}`
  const fields = http?.fields ?? []
  const type = http ? (fieldValue(fields, 'content-type') ?? '') : head === '' ? 'application/json' : `application/${head}`
  const none = { headersSize: -1, cookies: [], httpVersion: 'HTTP/1.1' }
  return {
    startedDateTime: new Date(entry.bornAt).toISOString(),
    time: 0,
    request: {
      method: http ? method : 'POST',
      url,
      ...none,
      headers: [],
      ...{ queryString: isRequest ? [...new URL(url).searchParams].map(([name, value]) => ({ name, value })) : [], bodySize: -1 },
    },
    response: {
      ...{ status: http?.status ?? 200, statusText: http?.statusText ?? '', ...none, bodySize: -1 },
      headers: fields.map(([name, value]) => ({ name, value })),
      content: content(type),
      redirectURL: fieldValue(fields, 'location') ?? '',
    },
    ...{ cache: {}, timings: { send: 0, wait: 0, receive: 0 } },
    _stashen: {
      ...{ key, provider, endpoint, head: http ? { url: http.url, freshBy: http.freshBy } : head, units, labels },
      ...times,
    },
  } as HarEntry
}

/** The entry that a stash exported. */
export function entryOfHar({ response }: HarEntry, extra: HarExtra, body: Uint8Array): Entry {
  const { head: more, ...rest } = extra
  const { status, statusText, headers } = response
  const fields = headers.map(({ name, value }) => [name, value] as const)
  const head = typeof more === 'string' ? more : JSON.stringify({ status, statusText, fields, ...more } satisfies StoredHead)
  return { ...rest, head, body }
}
