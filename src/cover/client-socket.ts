import { isIP, Socket } from 'node:net'

type Done = (error?: Error | null) => void

/**
 * The client's end of a connection within the process, as `node:http` knows sockets: it connects, times out when nothing comes, and closes. It counts as
 * connecting until `connected` is called, as a real one does until its server is reached. What is written arrives a tick later, so that nobody is called within what the
 * client does.
 */
export class ClientSocket extends Socket {
  readonly #host: string
  #arrives: (chunk: Buffer) => void
  #written: Done | undefined
  #whenRead: (() => void) | undefined
  #isLookedUp = false
  #grace: NodeJS.Timeout | undefined

  constructor(host: string, isSecure: boolean, arrives: (chunk: Buffer) => void) {
    super()
    Object.assign(this, { connecting: true }, isSecure && secure)
    this.#host = host
    this.#arrives = arrives
  }

  /** What is written goes elsewhere from now on. */
  tunnelTo(arrives: (chunk: Buffer) => void): void {
    this.#arrives = arrives
  }

  /** Its name has an address. */
  lookedUp(...found: unknown[]): void {
    if (this.#isLookedUp || isIP(this.#host) !== 0) return
    this.#isLookedUp = true
    this.emit('lookup', ...found)
  }

  /** Counts as connected after that time, unless a call has left for its server, or another is connecting to it: it waits for something else then. */
  connectedAfter(ms: number, isConnecting: () => boolean): void {
    if (!this.connecting) return
    this.#grace = setTimeout(() => (isConnecting() ? this.connectedAfter(2 * ms, isConnecting) : this.connected()), ms)
  }

  /** A call leaves for its server, whose connection says when it is connected. */
  leaves(): void {
    clearTimeout(this.#grace)
  }

  connected(): void {
    clearTimeout(this.#grace)
    if (!this.connecting || this.destroyed) return
    this.lookedUp(null, '127.0.0.1', 4, this.#host)
    Object.assign(this, { connecting: false })
    this.emit('connect')
    this.#written?.()
    this.emit('ready')
    if ('encrypted' in this) this.emit('secureConnect')
  }

  /** Bytes for the client, or null: no more will come. Resolves once there is room for more; undefined: there is. */
  receive(chunk: Uint8Array | null): Promise<void> | undefined {
    if (this.destroyed) return undefined
    this.#isActive()
    if (this.push(chunk) || chunk === null) return undefined
    return new Promise((resolve) => {
      this.#whenRead = resolve
    })
  }

  override _read(): void {
    const read = this.#whenRead
    this.#whenRead = undefined
    read?.()
  }

  override _write(chunk: Buffer | string, encoding: string, done: Done): void {
    this.#isActive()
    const bytes = typeof chunk === 'string' ? Buffer.from(chunk, encoding as BufferEncoding) : chunk
    process.nextTick(() => {
      this.#arrives(bytes)
      if (this.connecting) this.#written = done
      else done()
    })
  }

  override _writev(chunks: { readonly chunk: Buffer | string; readonly encoding: BufferEncoding }[], done: Done): void {
    const all = chunks.map(({ chunk, encoding }) => (typeof chunk === 'string' ? Buffer.from(chunk, encoding) : chunk))
    this._write(Buffer.concat(all), '', done)
  }

  override _final(done: Done): void {
    done()
  }

  override _destroy(error: Error | null, done: Done): void {
    clearTimeout(this.#grace)
    this.#whenRead?.()
    setImmediate(() => super._destroy(error, done)) // a real one takes as long
  }

  /** The time after which it is idle begins anew, as it does for Node's own sockets. */
  #isActive(): void {
    ;(this as unknown as { _unrefTimer(): void })._unrefTimer()
  }

  /** There is no connection below of which these could be said. */
  override setKeepAlive(): this {
    return this
  }

  override setNoDelay(): this {
    return this
  }

  override ref(): this {
    return this
  }

  override unref(): this {
    return this
  }
}

/** What a secure socket has besides. */
const secure = {
  encrypted: true,
  authorized: true,
  authorizationError: null,
  getPeerCertificate: () => ({}),
  getCipher: () => ({}),
  getProtocol: () => null,
  getSession: () => undefined,
  isSessionReused: () => false,
}
