import { entryOfHar, type HarContent, type HarEntry, type HarSignpost, type Imported } from '../core/entries/har.js'
import { Turns } from '../core/in-pieces.js'
import type { Clock } from '../core/ports/clock.js'
import type { Entry, PutResult } from '../core/ports/entry-store.js'
import type { Maybe } from '../core/ports/maybe.js'
import type { Cancellation } from '../engine/cancellation.js'
import { toldTo } from '../engine/onlooker.js'

/** What stores answers. */
export interface Importing {
  /** An entry as it was exported. */
  putEntry(entry: Entry): Maybe<PutResult | undefined>
  /** An answer that came at a time, milliseconds since 1970-01-01T00:00Z, by its rule; returns why it was not stored. */
  putAnswer(request: Request, answer: Response, at: number): Promise<string | undefined>
  /** By what time others come between. */
  readonly clock: Pick<Clock, 'later' | 'ticks'>
  /** Told how many answers are done, and of how many. */
  readonly onProgress?: ((progress: { readonly done: number; readonly of: number }) => void) | undefined
  /** Whether the stash closes, and what to reject with then. */
  readonly closing: Pick<Cancellation, 'aborted' | 'reason'>
}

/** Stores the answers of an archive: those of a stash exactly as they were, all others, such as a browser's, by their rules and as of when they came. */
export async function importHar(
  { entries, signposts }: { readonly entries: readonly HarEntry[]; readonly signposts: readonly HarSignpost[] },
  importing: Importing,
): Promise<Imported> {
  let [stored, done] = [0, 0]
  const notStored: Record<string, number> = {}
  for (const signpost of signposts) await importing.putEntry({ ...signpost, body: new Uint8Array() })
  const turns = new Turns(importing.clock)
  const told = toldTo(importing.onProgress)
  for (const entry of entries) {
    await turns.next()
    if (importing.closing.aborted) throw importing.closing.reason
    const why = await importOne(entry, importing)
    if (why === undefined) stored++
    else notStored[why] = (notStored[why] ?? 0) + 1
    told({ done: ++done, of: entries.length })
  }
  return { stored, notStored }
}

async function importOne(entry: HarEntry, { putEntry, putAnswer }: Importing): Promise<string | undefined> {
  const { request, response, startedDateTime, time, _stashen: extra } = entry
  const body = bytesOf(response.content)
  if (!body) return 'no-body'
  if (extra) return (await putEntry(entryOfHar(entry, extra, body)))?.notKept
  let [asked, answer] = [undefined as Request | undefined, undefined as Response | undefined]
  try {
    const headers = request.headers.filter(({ name }) => !name.startsWith(':')) // of HTTP/2, as browsers write them
    asked = new Request(request.url, {
      method: request.method,
      headers: headers.map(({ name, value }): [string, string] => [name, value]),
      ...(request.postData?.text !== undefined && { body: request.postData.text }),
    })
    answer = new Response(nullBody.includes(response.status) ? null : (body as Uint8Array<ArrayBuffer>), {
      status: response.status,
      statusText: response.statusText,
      headers: response.headers.filter(({ name }) => !name.startsWith(':')).map(({ name, value }): [string, string] => [name, value]),
    })
  } catch {
    return 'not-http'
  }
  return putAnswer(asked, answer, Date.parse(startedDateTime) + Math.max(0, time))
}

/** Statuses whose answers have no body (Fetch Standard section 2.2.3). */
const nullBody = [101, 103, 204, 205, 304]

/** Undefined where an archive leaves out a body that there was, as browsers do with large ones. */
function bytesOf({ text, encoding, size }: HarContent): Uint8Array | undefined {
  if (text === undefined) return size > 0 ? undefined : new Uint8Array()
  if (encoding !== 'base64') return new TextEncoder().encode(text)
  try {
    return Uint8Array.from(atob(text), (char) => char.charCodeAt(0))
  } catch {
    return undefined
  }
}
