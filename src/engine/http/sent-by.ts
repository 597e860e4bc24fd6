import type { Fetch } from './http-upstream.js'

/** The member of `init` by which who covers a program has a say in how a call leaves. */
export const sentBy: unique symbol = Symbol('stashen: sent by')

/** Sends a call upstream. `send`: what does it otherwise; `isGiven`: whether that is a function of the configuration. */
export type SentBy = (send: Fetch, isGiven: boolean, ...request: Parameters<Fetch>) => Promise<Response>

export function sentByOf(init: object | undefined): SentBy | undefined {
  return (init as { readonly [sentBy]?: SentBy } | undefined)?.[sentBy]
}
