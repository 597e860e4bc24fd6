import { Agent, type ClientRequest } from 'node:http'
import { isStashenError } from '../core/errors/stashen-error.js'
import { asResponse, type SentBy, sentBy } from '../engine/http/sent-by.js'
import type { Stash } from '../stash.js'
import { ClientSocket } from './client-socket.js'
import type { Link, Options } from './link.js'
import { isOwnCall, ownCall } from './own-calls.js'
import { reply } from './reply.js'
import { RequestReader, type WrittenRequest } from './request-reader.js'
import { forwarded, isConnectingTo, isLeaving } from './send-on.js'
import { tunnel } from './tunnel.js'

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

/** How long a call may be under way before its client counts as connected though nothing has left for it, milliseconds: it waits for something else then. */
const graceMs = 10

/** The stashes that cover calls, the latest last. */
const stashes: Stash[] = []
const { addRequest } = Agent.prototype as unknown as { addRequest: AddRequest }
type AddRequest = (this: Agent, request: ClientRequest, options: Options, ...legacy: unknown[]) => void

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
  if (!isLeaving() && typeof options === 'object' && isMeant(this, request, options)) {
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
  try {
    client.connectedAfter(graceMs, () => isConnectingTo(link))
    const given = await answered(link, request, gone.signal)
    client.connected()
    await reply(client, request, given)
  } catch (error) {
    client.destroy(asNodeError(error))
  } finally {
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
  return asResponse(
    await forwarded(link, path, method, {
      headers: { ...fields, host: hostField(request) },
      signal,
      ...(body && { body: body as Uint8Array<ArrayBuffer> }),
    }),
  )
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

/** Whether a call was not begun because the stash is closed. */
export function isClosed(error: unknown): boolean {
  return isStashenError(error) && error.code === 'STASH_CLOSED' && error.provider === undefined
}

/** What a client of `node:http` expects where nothing was reached, or a body broke off: the error of the connection, which is the cause of another. */
function asNodeError(error: unknown): Error {
  const isWrapped = error instanceof TypeError || (isStashenError(error) && error.code === 'BODY_BROKEN')
  const cause = isWrapped ? (error as Error).cause : undefined
  return cause instanceof Error ? cause : error instanceof Error ? error : new Error(String(error))
}
