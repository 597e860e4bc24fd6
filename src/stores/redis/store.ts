import { MissingPackageError, StoreError, UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import type { LedgerRow } from '../../core/ledger/ledger-row.js'
import type { LedgerBatch } from '../../core/ports/ledger-store.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Opening, Store, StoreFacts } from '../../core/ports/store.js'
import { addLast } from './add-last.js'
import { type Address, addressOf, type RedisAddress } from './address.js'
import { RedisEntries } from './entries.js'
import { RedisLedger } from './ledger.js'
import { type RedisClient, RedisLink } from './link.js'
import { Places } from './places.js'
import { RedisRecords } from './records.js'
import { openingError } from './trouble.js'

export interface RedisStoreOptions extends RedisAddress {
  /**
   * A client made by `createClient` or `createCluster` of the package `redis`, in place of an address. A stash connects it where it is not connected,
   * and leaves it connected when it closes.
   */
  readonly client?: RedisClient
  /** What all keys of the store begin with. Several stores may be on one server, by different prefixes. Default: that of the URL, else
   * `STASHEN_REDIS_PREFIX`, else `stashen`. */
  readonly prefix?: string
  /** Only reads: there has to be a store already, and nothing in it is changed. Default false. */
  readonly readOnly?: boolean
}

/** Raised whenever the keys change in a way that other code cannot read. */
const formatVersion = 1

/** Redis 6.2 and later. */
const oldestServer = [6, 2] as const

/**
 * A store on a Redis server or cluster, 6.2 or later, which any number of machines may use at once. Needs the package `redis`. Entries run out on the
 * server itself, which also bounds them, if it does (`maxmemory`).
 */
export function redisStore(options: RedisStoreOptions = {}): Store {
  const { client: given, readOnly = false } = options
  const address = given ? undefined : addressOf(options, process.env)
  const prefix = options.prefix ?? address?.prefix ?? process.env.STASHEN_REDIS_PREFIX ?? 'stashen'
  if (typeof prefix !== 'string' || !/^[^\s{}]+$/.test(prefix))
    throw new UsageError(`"prefix" of redisStore is ${shown(prefix)}: give a text without spaces and braces`)
  const where = `${address?.shown ?? 'redis:'}, prefix ${prefix}`
  const link = new RedisLink()
  const places = new Places(prefix)
  const entries = new RedisEntries(link, places, readOnly)
  const connection = { isOpen: false }
  const last =
    address && !readOnly ? (...[rows, batch]: [readonly LedgerRow[], LedgerBatch]) => addLast(address, prefix, rows, batch) : undefined
  return {
    ...{ entries, records: new RedisRecords(link, places), ledger: new RedisLedger(link, places, last) },
    async open({ warn }: Opening) {
      const client = given ?? (await clientOf(address as Address, connection))
      client.on('error', noop) // commands say what is wrong
      try {
        if (!client.isOpen) await client.connect()
        link.use(client)
        await assertUsable(link, { places, readOnly, where, warn })
        connection.isOpen = true
      } catch (error) {
        link.use(undefined)
        client.off('error', noop)
        if (!given) attempt(() => client.destroy())
        throw error instanceof StoreError ? error : openingError(where, error, address?.host ?? '')
      }
    },
    time: () => timeOf(link, places),
    inspect: () => inspect(link, places),
    onChange: (changed) => listenTo(link, places.changes, changed),
    async close() {
      if (!link.isOpen) return
      const { client } = link
      await entries.settle()
      link.use(undefined)
      connection.isOpen = false
      if (!given) await client.close().catch(() => attempt(() => client.destroy()))
      client.off('error', noop)
    },
  }
}

/** Has changes told that are published on a channel; on a connection of its own, and through the client where that is a cluster's. */
async function listenTo(
  { client, isCluster }: RedisLink,
  channel: string,
  changed: (selection: Selection) => void,
): Promise<() => Promise<void>> {
  const listener = isCluster ? client : (client.duplicate?.() ?? client)
  const heard = (message: string) => changed(selectionIn(message))
  const lost = () => changed({ all: true }) // between two connections messages may get lost
  listener.on('error', noop)
  listener.on('ready', lost)
  if (!listener.isOpen) await listener.connect()
  await listener.subscribe(channel, heard)
  return async () => {
    if (listener !== client) return attempt(() => listener.destroy())
    await listener.unsubscribe(channel, heard).catch(noop)
  }
}

/** What is no selection may mean anything. */
function selectionIn(message: string): Selection {
  try {
    const selection = JSON.parse(message) as Selection
    return typeof selection === 'object' && selection !== null ? selection : { all: true }
  } catch {
    return { all: true }
  }
}

/** What is used of the package `redis`. */
interface RedisPackage {
  createClient(options: object): RedisClient
}

/** How long connecting may take, milliseconds, and a command on a connection that gives no answer. */
const connectTimeoutMs = 2_000
const silentForMs = 5_000

/** A client of an address: while connecting at first it fails at once, later it tries again, and commands fail meanwhile. */
async function clientOf(
  { host, port, username, password, database, tls }: Address,
  connection: { readonly isOpen: boolean },
): Promise<RedisClient> {
  let redis: RedisPackage
  try {
    redis = (await import('redis')) as unknown as RedisPackage
  } catch (cause) {
    throw new MissingPackageError('redis', 'the Redis store', { cause })
  }
  const reconnectStrategy = (tries: number, cause: Error) => (connection.isOpen ? Math.min(50 * 2 ** tries, 1_000) : cause)
  const socket = { host, port, connectTimeout: connectTimeoutMs, socketTimeout: silentForMs, reconnectStrategy, ...(tls && { tls }) }
  const who = { ...(username && { username }), ...(password && { password }) }
  return redis.createClient({ ...who, database, socket, disableOfflineQueue: true, pingInterval: silentForMs / 3 })
}

/** Throws `StoreError` where the server, or what is on it, cannot be used. */
async function assertUsable(
  link: RedisLink,
  { places, readOnly, where, warn }: { places: Places; readOnly: boolean; where: string; warn: Opening['warn'] },
): Promise<void> {
  const info = await infoOf(link, places.format)
  const version = (info.get('redis_version') ?? '').split('.').map(Number)
  const [major = 0, minor = 0] = version
  const [oldestMajor, oldestMinor] = oldestServer
  if (major < oldestMajor || (major === oldestMajor && minor < oldestMinor))
    throw new StoreError(`store "${where}" is on a server of version ${version.join('.')}: use 6.2 or later`)
  if (info.get('cluster_enabled') === '1' && !link.isCluster)
    throw new StoreError(`store "${where}" is on a server of a cluster: pass a client made with createCluster as "client"`)
  if (!readOnly && info.get('role') === 'slave')
    throw new StoreError(
      `store "${where}" is on a replica, which only reads: name its primary, at ${info.get('master_host')}:${info.get('master_port')}`,
    )
  const format = await link.send(places.format, ['GET', places.format])
  if (format === null && readOnly) throw new StoreError(`there is no store "${where}": correct address, database or prefix`)
  if (Number(format ?? formatVersion) > formatVersion)
    throw new StoreError(`store "${where}" was made by a newer version of Stashen: update this one, or give another prefix`)
  if (!readOnly) await link.send(places.format, ['SET', places.format, String(formatVersion)])
  const policy = dropPolicyOf(info)
  if (policy !== undefined)
    warn(`store "${where}" is on a server that drops keys when its memory is full (${policy}): limits, quotas and the ledger may get lost`)
}

/** The server's time; of a cluster, that of one of its servers. */
async function timeOf(link: RedisLink, { format }: Pick<Places, 'format'>): Promise<number> {
  const [seconds, micros] = (await link.send(format, ['TIME'])) as [string, string]
  return Number(seconds) * 1_000 + Number(micros) / 1_000
}

/** A server that is full takes nothing, unless it drops what it has. */
async function inspect(link: RedisLink, { format }: Places): Promise<StoreFacts> {
  const [info, now] = await Promise.all([infoOf(link, format), timeOf(link, { format })])
  const drops = dropPolicyOf(info)
  const isFull = info.get('maxmemory') !== '0' && Number(info.get('used_memory')) >= Number(info.get('maxmemory'))
  return {
    on: `Redis ${info.get('redis_version') ?? 'of an unknown version'}${link.isCluster ? ', a cluster' : ''}`,
    isWritable: info.get('role') === 'master' && !(isFull && drops === undefined),
    now,
    drops,
  }
}

/** How a server drops keys when it is full; undefined where it does not. */
function dropPolicyOf(info: ReadonlyMap<string, string>): string | undefined {
  const policy = info.get('maxmemory_policy')
  return info.get('maxmemory') !== '0' && policy !== 'noeviction' ? policy : undefined
}

async function infoOf(link: RedisLink, key: string): Promise<ReadonlyMap<string, string>> {
  const texts = await Promise.all(['server', 'replication', 'memory', 'cluster'].map((section) => link.send(key, ['INFO', section])))
  const lines = texts.flatMap((text) => String(text).split(/\r?\n/)).filter((line) => line.includes(':'))
  return new Map(lines.map((line) => [line.slice(0, line.indexOf(':')), line.slice(line.indexOf(':') + 1)]))
}

function noop(): void {}

function attempt(work: () => unknown): void {
  try {
    work()
  } catch {
    // it is closed already
  }
}
