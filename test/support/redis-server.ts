import { type ChildProcess, spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { redisServer } from './needs.js'

/** A real server of its own, which keeps nothing when it stops. */
export class RedisServer {
  readonly port: number
  readonly folder = mkdtempSync(join(tmpdir(), 'stashen-redis-'))
  #process: ChildProcess | undefined
  readonly #options: readonly string[]

  private constructor(port: number, options: readonly string[]) {
    this.port = port
    this.#options = options
  }

  static async start(...options: string[]): Promise<RedisServer> {
    const server = new RedisServer(await freePort(), options)
    await server.start()
    return server
  }

  get url(): string {
    return `redis://127.0.0.1:${this.port}`
  }

  /** Again, where it was stopped: empty. */
  async start(): Promise<void> {
    const usual = ['--port', String(this.port), '--save', '', '--appendonly', 'no', '--dir', this.folder]
    const child = spawn(redisServer, [...usual, ...this.#options], { stdio: ['ignore', 'pipe', 'inherit'] })
    this.#process = child
    for await (const text of child.stdout) if (String(text).includes('Ready to accept connections')) break
    child.stdout.resume()
  }

  async stop(signal: NodeJS.Signals = 'SIGKILL'): Promise<void> {
    const child = this.#process
    if (!child || child.exitCode !== null) return
    this.#process = undefined
    child.kill(signal)
    await once(child, 'exit')
  }

  async remove(): Promise<void> {
    await this.stop()
    rmSync(this.folder, { recursive: true, force: true })
  }

  /** What the server's own tool says to a command. */
  cli(...command: string[]): string {
    return spawnSync('redis-cli', ['-p', String(this.port), ...command], { encoding: 'utf8' }).stdout.trim()
  }
}

/** Three masters that share the slots. */
export async function startCluster(): Promise<RedisServer[]> {
  const clustered = ['--cluster-enabled', 'yes', '--cluster-node-timeout', '2000']
  const servers = await Promise.all([0, 1, 2].map(() => RedisServer.start(...clustered)))
  const nodes = servers.map(({ port }) => `127.0.0.1:${port}`)
  const made = spawnSync('redis-cli', ['--cluster', 'create', ...nodes, '--cluster-yes'], { encoding: 'utf8' })
  if (made.status !== 0) throw new Error(`no cluster: ${made.stdout} ${made.stderr}`)
  for (let tries = 0; servers.some((server) => !server.cli('cluster', 'info').includes('cluster_state:ok')); tries++) {
    if (tries > 100) throw new Error('the cluster does not come up')
    await new Promise((resolve) => setTimeout(resolve, 100))
  }
  return servers
}

/** One whose bus port is free too: in a cluster that is 10,000 higher. */
async function freePort(): Promise<number> {
  for (;;) {
    const server = createServer().listen(0, '127.0.0.1')
    await once(server, 'listening')
    const { port } = server.address() as { port: number }
    await new Promise((resolve) => server.close(resolve))
    if (port <= 55_000) return port
  }
}
