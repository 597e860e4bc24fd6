import { fieldValue } from '../../core/http/stored-head.js'
import type { Relaying } from '../call/relaying.js'
import type { Cancellation } from '../cancellation.js'
import type { HttpAnswer } from './http-answer.js'
import { fetchAnswer, type UpstreamRequest } from './http-upstream.js'
import { SharedBody } from './shared-body.js'
import type { ShownHead } from './shown-answer.js'

/** Fields that say which representation an answer is (RFC 9110 section 8). */
const telling = ['content-type', 'content-encoding', 'content-length', 'content-language', 'content-location', 'etag', 'last-modified']

/** Answers of another process are read as if they came from upstream. */
export function relayingBy(requestFor: (ending: Cancellation) => UpstreamRequest): Relaying<HttpAnswer> {
  return {
    answer(head, body, ending) {
      const { status, statusText, fields, url, askedAt, answeredAt } = JSON.parse(head) as ShownHead
      const response = new Response(body, { status, statusText, headers: fields as [string, string][] })
      if (url !== undefined) Object.defineProperties(response, { url: { value: url }, redirected: { value: true } })
      return fetchAnswer({ ...requestFor(ending), fetch: async () => response, at: { askedAt, answeredAt } })
    },
    isSame(one, other) {
      return one.status === other.status && telling.every((name) => fieldValue(one.fields, name) === fieldValue(other.fields, name))
    },
    bodyOf({ body }) {
      const bytes = body instanceof SharedBody ? body.bytes : body
      return bytes ? streamOf(bytes) : (body as SharedBody).stream(undefined, () => {})
    },
  }
}

function streamOf(bytes: Uint8Array): ReadableStream<Uint8Array> {
  return new ReadableStream({
    start(controller) {
      if (bytes.byteLength > 0) controller.enqueue(bytes)
      controller.close()
    },
  })
}
