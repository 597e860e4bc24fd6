import { ClientRequest, type ClientRequestArgs, type IncomingMessage } from 'node:http'
import { Readable } from 'node:stream'
import { createBrotliDecompress, createGunzip, createInflate, constants as zlib } from 'node:zlib'
import { joinedBytes } from '../core/bytes.js'
import { fieldsOf } from '../engine/http/http-answer.js'
import { type WholeResponse, wholeResponse } from '../engine/http/sent-by.js'
import type { Link } from './link.js'
import { pairsOf, smallBytes } from './wire.js'

/** Calls that leave now, in this turn: they are covered no more. */
let leaving = 0

/** Whether the request that is being made leaves by itself. */
export function isLeaving(): boolean {
  return leaving > 0
}

/** The calls whose connections are being made. */
const connecting = new Set<Link>()

/** Whether a call connects to the server of a link: a call that waits for its answer is no more connected than that. */
export function isConnectingTo({ origin }: Link): boolean {
  for (const link of connecting) if (link.origin === origin) return true
  return false
}

/** Sends a call by the client's own agent and options, with what the stash adds to its fields. */
export function forwarded(link: Link, path: string, method: string, init: RequestInit = {}): Promise<Response | WholeResponse> {
  const { client } = link
  const { signal } = init
  client.leaves()
  const body = init.body as Uint8Array | string | null | undefined
  return new Promise((resolve, reject) => {
    const headers = Object.fromEntries(new Headers(init.headers) as unknown as Iterable<[string, string]>)
    if (body) headers['content-length'] = String(Buffer.byteLength(body)) // which a GET would be sent without
    const request = leave(link, { method, path, headers, ...(signal && { signal }) })
    request.once('socket', (socket) => {
      if (!socket.connecting) return client.connected()
      const isOver = () => connecting.delete(link)
      connecting.add(link)
      socket.once('close', isOver)
      socket.once('lookup', (...found: unknown[]) => client.lookedUp(...found))
      socket.once('encrypted' in socket ? 'secureConnect' : 'connect', () => {
        isOver()
        client.connected()
      })
    })
    request.once('error', (error) => reject(signal?.aborted ? signal.reason : error))
    request.once('response', (message) => void responseOf(message, method).then(resolve, reject))
    request.end(body ?? undefined)
  })
}

/** A request of the client's own options, that nothing covers. */
export function leave({ agent, options, protocol }: Link, own: ClientRequestArgs): ClientRequest {
  const { timeout: _t, signal: _s, auth: _a, headers: _h, ...rest } = options
  leaving++
  try {
    return new ClientRequest({ ...rest, ...own, protocol, agent } as unknown as string)
  } finally {
    leaving--
  }
}

async function responseOf(message: IncomingMessage, method: string): Promise<Response | WholeResponse> {
  const { statusCode: status = 502, statusMessage: statusText = '' } = message
  const headers = new Headers(pairsOf(message.rawHeaders))
  const isEmpty = method === 'HEAD' || status === 204 || status === 205 || status === 304
  if (isEmpty) {
    message.resume()
    return new Response(null, { status, statusText, headers })
  }
  const decoded = decodedBody(message)
  const length = Number(message.headers['content-length'] ?? Number.NaN)
  const body = length <= smallBytes ? await wholeOr(decoded) : (Readable.toWeb(decoded) as unknown as ReadableStream)
  if (body instanceof Uint8Array) return wholeResponse({ status, statusText, fields: fieldsOf(headers), bytes: body })
  return new Response(body, { status, statusText, headers })
}

/** All of a body; where it breaks off, a stream that does so too. */
function wholeOr(source: Readable): Promise<Uint8Array<ArrayBuffer> | ReadableStream> {
  const chunks: Uint8Array[] = []
  return new Promise((resolve) => {
    const broken = (error: Error) =>
      resolve(
        new ReadableStream({
          start(controller) {
            for (const chunk of chunks) controller.enqueue(chunk)
          },
          pull: (controller) => controller.error(error), // once the chunks were read, which an error would take away
        }),
      )
    source.on('data', (chunk: Buffer) => chunks.push(chunk))
    source.once('end', () => resolve(joinedBytes(chunks))) // in memory of its own: chunks are parts of larger buffers
    source.once('error', broken)
    source.once('close', () => broken(new Error('aborted'))) // where it has not ended
  })
}

/** A body without its content codings, as `fetch` gives it. */
function decodedBody(message: IncomingMessage): Readable {
  const codings = (message.headers['content-encoding'] ?? '')
    .toLowerCase()
    .split(',')
    .map((coding) => coding.trim())
    .filter(Boolean)
  return codings.reduceRight<Readable>((from, coding) => {
    const decoder = decoderOf(coding)
    if (!decoder) return from
    from.once('error', (error) => decoder.destroy(error))
    message.once('aborted', () => decoder.destroy(new Error('aborted')))
    return from.pipe(decoder)
  }, message)
}

function decoderOf(coding: string) {
  const lenient = { flush: zlib.Z_SYNC_FLUSH, finishFlush: zlib.Z_SYNC_FLUSH }
  if (coding === 'gzip' || coding === 'x-gzip') return createGunzip(lenient)
  if (coding === 'deflate') return createInflate(lenient)
  return coding === 'br' ? createBrotliDecompress() : undefined
}
