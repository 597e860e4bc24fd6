import { createHash } from 'node:crypto'

/** What a command is made of. */
export type Part = string | Uint8Array

/** What is used of a client of the package `redis`, of one server or of a cluster. */
export interface RedisClient {
  readonly isOpen: boolean
  connect(): Promise<unknown>
  close(): Promise<unknown>
  destroy(): unknown
  on(event: 'error' | 'ready', listener: (error: Error) => void): unknown
  off(event: 'error', listener: (error: Error) => void): unknown
  /** Of a server's client: another one like it, for a connection that only listens. */
  duplicate?(): RedisClient
  subscribe(channel: string, listener: (message: string) => void): Promise<unknown>
  unsubscribe(channel: string, listener: (message: string) => void): Promise<unknown>
  // biome-ignore lint/suspicious/noExplicitAny: a server's client takes a command, a cluster's its first key and whether it reads besides
  sendCommand(...given: any[]): Promise<unknown>
}

/** A script, run on the server as one step. Its first key says where; others that it uses are in the same slot. */
export interface Script {
  readonly text: string
  readonly sha1: string
}

export function script(text: string): Script {
  return { text, sha1: createHash('sha1').update(text).digest('hex') }
}

/** Replies with bulk strings as bytes (RESP, "$"). */
const asBytes = { typeMapping: { ['$'.charCodeAt(0)]: Buffer } }

/** Sends commands to a server, or to that of a cluster which has their key. */
export class RedisLink {
  #client: RedisClient | undefined
  #isCluster = false

  get isOpen(): boolean {
    return this.#client !== undefined
  }

  get isCluster(): boolean {
    return this.#isCluster
  }

  get client(): RedisClient {
    if (!this.#client) throw new Error('the store is not open')
    return this.#client
  }

  /** From now on through a client; through none where there is none. */
  use(client: RedisClient | undefined): void {
    this.#client = client
    this.#isCluster = client !== undefined && 'slots' in client
  }

  /** Fields of a hash, as bytes; what is no hash at all has none. */
  async fields(key: string, names: readonly string[]): Promise<readonly (Buffer | null)[]> {
    try {
      return (await this.#send(key, true, ['HMGET', key, ...names], asBytes)) as (Buffer | null)[]
    } catch (error) {
      if (String((error as Error | undefined)?.message).startsWith('WRONGTYPE')) return []
      throw error
    }
  }

  send(key: string, command: readonly Part[]): Promise<unknown> {
    return this.#send(key, false, command, undefined)
  }

  run(script: Script, key: string, args: readonly Part[]): Promise<unknown> {
    return this.#run(script, key, args, undefined)
  }

  /** As `run`, with bulk strings of the reply as bytes. */
  runForBytes(script: Script, key: string, args: readonly Part[]): Promise<unknown> {
    return this.#run(script, key, args, asBytes)
  }

  async #run({ text, sha1 }: Script, key: string, args: readonly Part[], options: object | undefined): Promise<unknown> {
    try {
      return await this.#send(key, false, ['EVALSHA', sha1, '1', key, ...args], options)
    } catch (error) {
      if (!String((error as Error | undefined)?.message).startsWith('NOSCRIPT')) throw error
      return this.#send(key, false, ['EVAL', text, '1', key, ...args], options)
    }
  }

  #send(key: string, reads: boolean, command: readonly Part[], options: object | undefined): Promise<unknown> {
    const parts = command.map((part) => (typeof part === 'string' ? part : Buffer.from(part.buffer, part.byteOffset, part.byteLength)))
    return this.#isCluster ? this.client.sendCommand(key, reads, parts, options) : this.client.sendCommand(parts, options)
  }
}
