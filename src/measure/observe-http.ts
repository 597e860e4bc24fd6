import { subscribe, unsubscribe } from 'node:diagnostics_channel'
import { ClientRequest, type IncomingMessage } from 'node:http'
import { ObservedCall, type Observing } from './observed-call.js'

type Sends = (this: ClientRequest, ...args: never[]) => unknown

/** Follows all calls of `node:http` and `node:https`; returns an unsubscribe function. What goes by is looked at, and nothing of it is changed. */
export function observeHttp(observing: Observing): () => void {
  const calls = new WeakMap<ClientRequest, ObservedCall>()
  const begun = new Set<ObservedCall>()
  const callOf = (request: ClientRequest) => {
    let call = calls.get(request)
    if (!call) {
      call = new ObservedCall(observing)
      calls.set(request, call)
      begun.add(call)
    }
    return call
  }
  const sender = ClientRequest.prototype as unknown as Record<'write' | 'end', Sends>
  const { write, end } = sender
  const following = (given: Sends): Sends =>
    function (this: ClientRequest, ...args) {
      if (typeof args[0] !== 'function') callOf(this).sends(args[0])
      return given.apply(this, args)
    }
  sender.write = following(write)
  sender.end = following(end)
  const starts = ({ request }: { request: ClientRequest }) => {
    const call = callOf(request)
    const { protocol, host, path, method } = request
    call.asks(method, `${protocol}//${hostOf(request, host)}${path}`, fieldsOf(request))
    request.once('close', () => {
      begun.delete(call)
      call.over(false)
    })
  }
  const responds = ({ request, response }: { request: ClientRequest; response: IncomingMessage }) => {
    const call = callOf(request)
    call.answers(response.statusCode ?? 0)
    const { push } = response
    response.push = function (this: IncomingMessage, chunk: unknown, encoding?: BufferEncoding) {
      if (chunk === null) {
        begun.delete(call)
        call.over(response.complete || request.method === 'HEAD')
      } else call.brings(chunk)
      return push.call(this, chunk, encoding)
    }
  }
  const [startName, finishName] = ['http.client.request.start', 'http.client.response.finish']
  subscribe(startName, starts as (message: unknown) => void)
  subscribe(finishName, responds as (message: unknown) => void)
  return () => {
    unsubscribe(startName, starts as (message: unknown) => void)
    unsubscribe(finishName, responds as (message: unknown) => void)
    Object.assign(sender, { write, end })
    for (const call of begun) call.over(false)
  }
}

function hostOf(request: ClientRequest, host: string): string {
  const named = request.getHeader('host')
  if (typeof named === 'string' && /^[\w.[\]:-]+$/.test(named)) return named
  const { port } = request as { port?: number | string }
  return port === undefined ? host : `${host}:${port}`
}

function fieldsOf(request: ClientRequest): [string, string][] {
  return Object.entries(request.getHeaders()).flatMap(([name, value]) =>
    value === undefined ? [] : [[name, String(value)] as [string, string]],
  )
}
