import type { Fields } from '../../core/http/stored-head.js'

type Fetch = typeof globalThis.fetch

const whole: unique symbol = Symbol('stashen: whole')

/** A response whose whole body is at hand: no stream is made of it. */
export interface WholeResponse {
  readonly [whole]: true
  readonly status: number
  readonly statusText: string
  readonly fields: Fields
  readonly bytes: Uint8Array<ArrayBuffer>
}

export function isWhole(came: Response | WholeResponse): came is WholeResponse {
  return whole in came
}

/** Sends a call upstream. */
export type Send = (...request: Parameters<Fetch>) => Promise<Response | WholeResponse>

/** The member of `init` by which who covers a program has a say in how a call leaves. */
export const sentBy: unique symbol = Symbol('stashen: sent by')

/** Sends a call upstream. `send`: what does it otherwise; `isGiven`: whether that is a function of the configuration. */
export type SentBy = (send: Fetch, isGiven: boolean, ...request: Parameters<Fetch>) => Promise<Response | WholeResponse>

export function sentByOf(init: object | undefined): SentBy | undefined {
  return (init as { readonly [sentBy]?: SentBy } | undefined)?.[sentBy]
}

export function wholeResponse(its: Omit<WholeResponse, typeof whole>): WholeResponse {
  return { ...its, [whole]: true }
}

/** What came, as a `Response`. */
export function asResponse(came: Response | WholeResponse): Response {
  if (!isWhole(came)) return came
  const { status, statusText, fields, bytes } = came
  return new Response(bytes, { status, statusText, headers: fields as [string, string][] })
}
