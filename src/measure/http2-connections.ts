import http2 from 'node:http2'
import { syncBuiltinESMExports } from 'node:module'

/** Tells of each connection that is opened with `node:http2`, whose calls nothing here can follow; returns an unsubscribe function. */
export function onHttp2Connection(tell: (origin: string) => void): () => void {
  const { connect } = http2
  const noticing = (authority: string | URL, ...rest: []) => {
    if (URL.canParse(String(authority))) tell(new URL(String(authority)).origin)
    return connect.call(http2, authority, ...rest)
  }
  const set = (its: typeof connect) => {
    Object.assign(http2, { connect: its })
    syncBuiltinESMExports()
  }
  set(noticing as typeof connect)
  return () => {
    if (http2.connect === (noticing as typeof connect)) set(connect)
  }
}
