import type { Fetch } from './http-upstream.js'

/** A request whose answer is fetched in advance. */
export type WarmRequest =
  | Parameters<Fetch>[0]
  | { readonly url: string; readonly method?: string; readonly headers?: Readonly<Record<string, string>>; readonly body?: string }
