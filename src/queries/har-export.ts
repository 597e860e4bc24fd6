import { type HarContent, type HarSignpost, harEntryOf } from '../core/entries/har.js'
import { compileSelector, type EntrySelector, isAnswer } from '../core/entries/selector.js'
import { isSignpost } from '../core/http/variants.js'
import type { Store } from '../core/ports/store.js'
import { version } from '../core/version.js'
import { allEntries } from './entries.js'

/**
 * The stored answers that a selector means as an HTTP Archive (HAR 1.2), in pieces of JSON text. Credentials are not in it, as they are not in the store; what
 * a stash needs to have them back exactly stands in members named `_stashen`.
 */
export async function* exportHar({ entries }: Pick<Store, 'entries'>, selector: EntrySelector, now: number): AsyncGenerator<string> {
  const { selection, matches, isOfAll, mayMean } = compileSelector(selector)
  const signposts: HarSignpost[] = []
  yield `{"log":{"version":"1.2","creator":{"name":"Stashen","version":${JSON.stringify(version)}},"entries":[`
  let isFirst = true
  for await (const summary of allEntries(entries, selection)) {
    if (isOfAll && isSignpost(summary.head) && mayMean(summary)) {
      const { bytes, ...signpost } = summary
      signposts.push(signpost)
    }
    if (!isAnswer(summary) || !matches(summary, now)) continue
    const entry = await entries.get(summary.key)
    if (!entry || entry.storedAt !== summary.storedAt) continue // it went or changed meanwhile
    yield `${isFirst ? '\n' : ',\n'}${JSON.stringify(harEntryOf(entry, (type) => contentOf(entry.body, type)))}`
    isFirst = false
  }
  yield `\n],"_stashen":${JSON.stringify({ signposts })}}}\n`
}

function contentOf(body: Uint8Array, mimeType: string): HarContent {
  const size = body.byteLength
  try {
    return { size, mimeType, text: decoder.decode(body) }
  } catch {
    return { size, mimeType, text: base64Of(body), encoding: 'base64' }
  }
}

const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

/** Bytes that are made text at once. */
const pieceOf = 24_576

/** RFC 4648 section 4. */
function base64Of(bytes: Uint8Array): string {
  let text = ''
  for (let at = 0; at < bytes.byteLength; at += pieceOf) text += btoa(String.fromCharCode(...bytes.subarray(at, at + pieceOf)))
  return text
}
