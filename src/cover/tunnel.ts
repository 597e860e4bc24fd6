import type { IncomingMessage } from 'node:http'
import type { Link } from './link.js'
import type { WrittenRequest } from './request-reader.js'
import { leave } from './send-on.js'
import { latin1, pairsOf } from './wire.js'

/** A request that changes the protocol: both ends talk to each other. */
export function tunnel(link: Link, { method, path, fields }: WrittenRequest, rest: Buffer): void {
  const { client } = link
  const real = leave(link, { method, path, headers: Object.fromEntries(fields) })
  const startOf = ({ statusCode, statusMessage, rawHeaders }: IncomingMessage) =>
    latin1(
      [`HTTP/1.1 ${statusCode} ${statusMessage}`, ...pairsOf(rawHeaders).map(([name, value]) => `${name}: ${value}`), '', ''].join('\r\n'),
    )
  real.once('upgrade', (message, other, first) => {
    client.connected()
    client.receive(startOf(message))
    client.receive(first)
    other.write(rest)
    other.on('data', (chunk: Buffer) => void client.receive(chunk))
    other.once('end', () => void client.receive(null))
    client.tunnelTo((chunk) => other.write(chunk))
    client.once('close', () => other.destroy())
  })
  real.once('response', (message) => {
    client.connected()
    client.receive(startOf(message))
    message.on('data', (chunk: Buffer) => void client.receive(chunk))
    message.once('end', () => void client.receive(null))
  })
  real.once('error', (error) => client.destroy(error))
  real.end()
}
