import { Agent, ClientRequest, type ClientRequestArgs, type IncomingMessage, STATUS_CODES } from 'node:http'
import { Readable } from 'node:stream'
import { createBrotliDecompress, createGunzip, createInflate, constants as zlib } from 'node:zlib'
import { isStashenError } from '../core/errors/stashen-error.js'
import { type SentBy, sentBy } from '../engine/http/sent-by.js'
import type { Stash } from '../stash.js'
import { ClientSocket } from './client-socket.js'
import { isOwnCall, ownCall } from './own-calls.js'
import { RequestReader, type WrittenRequest } from './request-reader.js'

/** Fields of a request that are those of its connection (RFC 9110 section 7.6.1), and of those which a client sets for it. */
const ofConnection = [
  'connection',
  'keep-alive',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
  'content-length',
  'host',
  'expect',
]

/** Fields of a response that say how its body came, which is decoded by now. */
const ofTransfer = ['content-encoding', 'content-length', 'transfer-encoding', 'connection', 'keep-alive']

/** How long a call may be under way before its client counts as connected though nothing has left for it, milliseconds: it waits for something else then. */
const graceMs = 10

type Options = ClientRequestArgs & { readonly servername?: string; readonly [option: string]: unknown }

/** Where the requests of a connection would have gone. */
interface Link {
  readonly client: ClientSocket
  readonly agent: Agent
  readonly options: Options
  readonly protocol: 'http:' | 'https:'
  readonly origin: string
  readonly host: string
  /** What of it may say who calls. */
  readonly own: object
}

/** The stashes that cover calls, the latest last. */
const stashes: Stash[] = []
const { addRequest } = Agent.prototype as unknown as { addRequest: AddRequest }
type AddRequest = (this: Agent, request: ClientRequest, options: Options, ...legacy: unknown[]) => void

/** Calls that leave now, in this turn: they are covered no more. */
let leaving = 0

/** Answers calls of `node:http` and `node:https` through a stash, where one of its endpoints covers them; returns what undoes it. */
export function coverHttp(stash: Stash): () => void {
  if (stashes.length === 0) (Agent.prototype as unknown as { addRequest: AddRequest }).addRequest = covering
  stashes.push(stash)
  return () => {
    const place = stashes.lastIndexOf(stash)
    if (place >= 0) stashes.splice(place, 1)
    const its = Agent.prototype as unknown as { addRequest: AddRequest }
    if (stashes.length === 0 && its.addRequest === covering) its.addRequest = addRequest
  }
}

/** Where every request gets its socket: those that are covered get one of ours, all others go on as if nothing were there. */
function covering(this: Agent, request: ClientRequest, options: Options, ...legacy: unknown[]): void {
  if (leaving === 0 && typeof options === 'object' && isMeant(this, request, options)) {
    addRequest.call(virtualAgentOf(this), request, options)
    return
  }
  addRequest.call(this, request, options, ...legacy)
}

function isMeant(agent: Agent, request: ClientRequest, options: Options): boolean {
  const { method, path } = request
  if (options.socketPath || !path.startsWith('/') || method === 'CONNECT' || request.hasHeader('upgrade')) return false
  const url = `${originOf(agent, options)}${path}`
  return stashes.some((stash) => isCovered(stash, method, url)) && !isOwnCall()
}

/** Whether a stash covers a call, remembered for the calls that come again. */
function isCovered(stash: Stash, method: string, url: string): boolean {
  const known = covered.get(stash) ?? new Map<string, boolean>()
  covered.set(stash, known)
  const name = `${method} ${url}`
  let is = known.get(name)
  if (is === undefined) {
    is = stash.covers(method, url) !== undefined
    if (known.size >= mostRemembered || url.length > 1_000) known.clear()
    known.set(name, is)
  }
  return is
}

const covered = new WeakMap<Stash, Map<string, boolean>>()
const mostRemembered = 500

function protocolOf(agent: Agent, options: Options): 'http:' | 'https:' {
  const protocol = options.protocol ?? (agent as { protocol?: string }).protocol
  return protocol === 'https:' ? 'https:' : 'http:'
}

function originOf(agent: Agent, options: Options): string {
  return `${protocolOf(agent, options)}//${hostOf(agent, options)}`
}

/** With its port where that is not the usual one. */
function hostOf(agent: Agent, { host, hostname, port, ...options }: Options): string {
  const name = String(host ?? hostname ?? 'localhost')
  const usual = protocolOf(agent, options) === 'https:' ? 443 : 80
  const shown = name.includes(':') && !name.startsWith('[') ? `[${name}]` : name
  return Number(port ?? usual) === usual ? shown : `${shown}:${port}`
}

const virtualAgents = new WeakMap<Agent, VirtualAgent>()

function virtualAgentOf(agent: Agent): VirtualAgent {
  let virtual = virtualAgents.get(agent)
  if (!virtual) {
    virtual = new VirtualAgent(agent)
    virtualAgents.set(agent, virtual)
  }
  return virtual
}

/** Gives out connections that lead to a stash, as many and for as long as the agent in whose place it stands. */
class VirtualAgent extends Agent {
  readonly #agent: Agent

  constructor(agent: Agent) {
    const { keepAlive, maxSockets, maxFreeSockets, maxTotalSockets, options } = agent as Agent & { keepAlive?: boolean; options?: object }
    super({ ...(options as { timeout?: number }), keepAlive: keepAlive === true, maxSockets, maxFreeSockets, maxTotalSockets })
    this.#agent = agent
  }

  override getName(options: Parameters<Agent['getName']>[0]): string {
    return this.#agent.getName(options)
  }

  override createConnection(options: Options): ClientSocket {
    const agent = this.#agent
    const protocol = protocolOf(agent, options)
    const host = hostOf(agent, options)
    const client = new ClientSocket(String(options.host ?? 'localhost'), protocol === 'https:', (chunk) => reader.push(chunk))
    const link: Link = { client, agent, options, protocol, host, origin: `${protocol}//${host}`, own: connectionOf(agent, options) }
    const reader = new RequestReader({
      head(expects) {
        client.connected() // else the body is not written
        if (expects) client.receive(Buffer.from('HTTP/1.1 100 Continue\r\n\r\n'))
      },
      request: (request) => void answer(link, request),
      upgrade: (request, rest) => tunnel(link, request, rest),
    })
    return client
  }
}

/** While a call is under way the process does not end, as a connection would keep it. */
let underWay = 0
const keeping = setInterval(() => {}, 2 ** 30)
keeping.unref()

async function answer(link: Link, request: WrittenRequest): Promise<void> {
  if (underWay++ === 0) keeping.ref()
  const { client } = link
  const gone = new AbortController()
  const leaves = () => gone.abort(new DOMException('the client has gone', 'AbortError'))
  client.once('close', leaves)
  let grace: NodeJS.Timeout | undefined
  try {
    const answering = answered(link, request, gone.signal)
    if (client.connecting) grace = setTimeout(() => client.connected(), graceMs)
    const given = await answering
    client.connected()
    await reply(client, request, given)
  } catch (error) {
    client.destroy(asNodeError(error))
  } finally {
    clearTimeout(grace)
    client.off('close', leaves)
    if (--underWay === 0) keeping.unref()
  }
}

/** The stash's answer; that of the provider itself where no open stash covers the request after all. */
async function answered(link: Link, request: WrittenRequest, signal: AbortSignal): Promise<Response> {
  const { method, path, body } = request
  const fields = fieldsOf(request)
  const isOdd = body !== undefined && (method === 'GET' || method === 'HEAD') // which `fetch` does not send
  if (!isOdd && isUsualHost(link, hostField(request))) {
    const url = `${link.origin}${path}`
    const send: SentBy = (its, isGiven, input, init) => (isGiven ? ownCall(() => its(input, init)) : forwarded(link, path, method, init))
    const init = { method, headers: fields, redirect: 'manual', signal, ...(body && { body }), ...link.own, [sentBy]: send }
    for (const stash of stashes.length === 1 ? stashes : [...stashes].reverse()) {
      if (!isCovered(stash, method, url)) continue
      try {
        return await stash.fetch(url, init as RequestInit)
      } catch (error) {
        if (!isClosed(error)) throw error
      }
    }
  }
  return forwarded(link, path, method, {
    headers: { ...fields, host: hostField(request) },
    signal,
    ...(body && { body: body as Uint8Array<ArrayBuffer> }),
  })
}

/** The fields of a request, but for those of its connection; those of one name in one. */
function fieldsOf({ fields }: WrittenRequest): Record<string, string> {
  const all: Record<string, string> = {}
  for (const [given, value] of fields) {
    const name = given.toLowerCase()
    if (ofConnection.includes(name)) continue
    all[name] = all[name] === undefined ? value : `${all[name]}${name === 'cookie' ? '; ' : ', '}${value}`
  }
  return all
}

function hostField({ fields }: WrittenRequest): string {
  return fields.find(([name]) => name.toLowerCase() === 'host')?.[1] ?? ''
}

/** Whether a request is for the host that it is sent to. */
function isUsualHost({ host, protocol }: Link, field: string): boolean {
  return field === host || field.toLowerCase() === host.toLowerCase() || field === `${host}:${protocol === 'https:' ? 443 : 80}`
}

const certificate = ['cert', 'key', 'pfx', 'passphrase', 'ca', 'localAddress'] as const

/** What of a connection may say who calls: client certificates, whom it trusts, and an agent that is none of Node's own. */
function connectionOf(agent: Agent, options: Options): object {
  const its = { ...(agent as { options?: object }).options, ...options } as Record<string, unknown>
  const tls: Record<string, unknown> = Object.fromEntries(certificate.flatMap((name) => (its[name] ? [[name, its[name]]] : [])))
  if (its.rejectUnauthorized === false) tls.unverified = 'true' // what it gets may be anybody's
  const above = Object.getPrototypeOf(agent)
  const isNodes = above === Agent.prototype || (agent.constructor.name === 'Agent' && Object.getPrototypeOf(above) === Agent.prototype)
  return { ...(Object.keys(tls).length > 0 && { tls }), ...((!isNodes || Object.hasOwn(agent, 'createConnection')) && { agent }) }
}

/** Sends a call by the client's own agent and options, with what the stash adds to its fields. */
function forwarded(link: Link, path: string, method: string, init: RequestInit = {}): Promise<Response> {
  const { client } = link
  const { signal } = init
  const body = init.body as Uint8Array | string | null | undefined
  return new Promise((resolve, reject) => {
    const headers = Object.fromEntries(new Headers(init.headers) as unknown as Iterable<[string, string]>)
    if (body) headers['content-length'] = String(Buffer.byteLength(body)) // which a GET would be sent without
    const request = leave(link, { method, path, headers, ...(signal && { signal }) })
    request.once('socket', (socket) => {
      if (!socket.connecting) return client.connected()
      socket.once('lookup', (...found: unknown[]) => client.lookedUp(...found))
      socket.once('encrypted' in socket ? 'secureConnect' : 'connect', () => client.connected())
    })
    request.once('error', (error) => reject(signal?.aborted ? signal.reason : error))
    request.once('response', (message) => void responseOf(message, method).then(resolve, reject))
    request.end(body ?? undefined)
  })
}

/** A request of the client's own options, that nothing covers. */
function leave({ agent, options, protocol }: Link, own: ClientRequestArgs): ClientRequest {
  const { timeout: _t, signal: _s, auth: _a, headers: _h, ...rest } = options
  leaving++
  try {
    return new ClientRequest({ ...rest, ...own, protocol, agent } as unknown as string)
  } finally {
    leaving--
  }
}

/** So long bodies are read before their response is handed on, which takes less than a stream. */
const smallBytes = 65_536

async function responseOf(message: IncomingMessage, method: string): Promise<Response> {
  const { statusCode: status = 502, statusMessage: statusText = '' } = message
  const headers = pairsOf(message.rawHeaders)
  const isEmpty = method === 'HEAD' || status === 204 || status === 205 || status === 304
  if (isEmpty) {
    message.resume()
    return new Response(null, { status, statusText, headers })
  }
  const decoded = decodedBody(message)
  const length = Number(message.headers['content-length'] ?? Number.NaN)
  const body = length <= smallBytes ? await wholeOr(decoded) : (Readable.toWeb(decoded) as unknown as ReadableStream)
  return new Response(body as ReadableStream, { status, statusText, headers })
}

/** All of a body; where it breaks off, a stream that does so too. */
async function wholeOr(source: Readable): Promise<Uint8Array | ReadableStream> {
  const chunks: Uint8Array[] = []
  try {
    for await (const chunk of source) chunks.push(chunk)
    return chunks.length === 1 ? (chunks[0] as Uint8Array) : Buffer.concat(chunks)
  } catch (error) {
    return new ReadableStream({
      start(controller) {
        for (const chunk of chunks) controller.enqueue(chunk)
      },
      pull: (controller) => controller.error(error), // once the chunks were read, which an error would take away
    })
  }
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

/** Hands a response to the client. */
async function reply(client: ClientSocket, { method, fields: asked }: WrittenRequest, answer: Response): Promise<void> {
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

function latin1(text: string): Buffer {
  return Buffer.from(text, 'latin1')
}

function isShort(headers: Headers): boolean {
  return Number(headers.get('content-length') ?? Number.NaN) <= smallBytes || (headers.get('cache-status') ?? '').includes('stashen; hit')
}

/** A request that changes the protocol: both ends talk to each other. */
function tunnel(link: Link, { method, path, fields }: WrittenRequest, rest: Buffer): void {
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

/** Whether a call was not begun because the stash is closed. */
export function isClosed(error: unknown): boolean {
  return isStashenError(error) && error.code === 'STASH_CLOSED' && error.provider === undefined
}

function pairsOf(raw: readonly string[]): [string, string][] {
  return Array.from({ length: raw.length / 2 }, (_, i) => [raw[2 * i] as string, raw[2 * i + 1] as string])
}

/** What a client of `node:http` expects where nothing was reached, or a body broke off: the error of the connection, which is the cause of another. */
function asNodeError(error: unknown): Error {
  const isWrapped = error instanceof TypeError || (isStashenError(error) && error.code === 'BODY_BROKEN')
  const cause = isWrapped ? (error as Error).cause : undefined
  return cause instanceof Error ? cause : error instanceof Error ? error : new Error(String(error))
}
