import { STATUS_CODES } from 'node:http'
import type { ClientSocket } from './client-socket.js'
import type { WrittenRequest } from './request-reader.js'
import { latin1, smallBytes } from './wire.js'

/** Fields of a response that say how its body came, which is decoded by now. */
const ofTransfer = ['content-encoding', 'content-length', 'transfer-encoding', 'connection', 'keep-alive']

/** Hands a response to the client. */
export async function reply(client: ClientSocket, { method, fields: asked }: WrittenRequest, answer: Response): Promise<void> {
  const { status, statusText, headers } = answer
  const isEmpty = method === 'HEAD' || status === 204 || status === 304
  const left = !isEmpty && headers.has('content-encoding') ? ofTransfer : ofTransfer.slice(2)
  let head = `HTTP/1.1 ${status} ${statusText || (STATUS_CODES[status] ?? '')}\r\n`
  for (const [name, value] of headers as unknown as Iterable<[string, string]>) if (!left.includes(name)) head += `${name}: ${value}\r\n`
  const isLast = asked.some(([name, value]) => name.toLowerCase() === 'connection' && value.toLowerCase() === 'close')
  head += isLast ? 'connection: close\r\n' : 'connection: keep-alive\r\n'
  if (isEmpty) client.receive(latin1(`${head}\r\n`))
  else if (isShort(headers)) {
    // its `body` is not looked at: that would make a stream of what is at hand
    const body = new Uint8Array(await answer.arrayBuffer().catch((error) => brokenOff(client, `${head}content-length: 1\r\n\r\n`, error)))
    const length = /\r\ncontent-length:/.test(head) ? '' : `content-length: ${body.byteLength}\r\n`
    client.receive(Buffer.concat([latin1(`${head}${length}\r\n`), body]))
  } else if (answer.body === null) client.receive(latin1(`${head}content-length: 0\r\n\r\n`))
  else await replyInPieces(client, head, answer.body as unknown as AsyncIterable<Uint8Array>)
  if (isLast) setImmediate(() => client.receive(null)) // after a client that closes for itself, as over a network
}

async function replyInPieces(client: ClientSocket, head: string, body: AsyncIterable<Uint8Array>): Promise<void> {
  const isMeasured = /\r\ncontent-length:/.test(head)
  client.receive(latin1(isMeasured ? `${head}\r\n` : `${head}transfer-encoding: chunked\r\n\r\n`))
  try {
    for await (const chunk of body) {
      if (client.destroyed) return
      if (!isMeasured) client.receive(latin1(`${chunk.byteLength.toString(16)}\r\n`))
      const room = client.receive(chunk)
      if (!isMeasured) client.receive(latin1('\r\n'))
      await room
    }
    if (!isMeasured) client.receive(latin1('0\r\n\r\n'))
  } catch {
    client.receive(null) // so that the client sees a response that breaks off
  }
}

function brokenOff(client: ClientSocket, head: string, error: unknown): never {
  client.receive(latin1(head))
  client.receive(null)
  throw error
}

function isShort(headers: Headers): boolean {
  return Number(headers.get('content-length') ?? Number.NaN) <= smallBytes || (headers.get('cache-status') ?? '').includes('stashen; hit')
}
