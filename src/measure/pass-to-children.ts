import childProcess, { ChildProcess } from 'node:child_process'
import { syncBuiltinESMExports } from 'node:module'

type Environment = Readonly<Record<string, string | undefined>>

/** How an asynchronous child is started, whichever function does it. */
interface Spawning {
  spawn(options: { envPairs?: string[] }): unknown
}

const atOnce = ['spawnSync', 'execSync', 'execFileSync'] as const

/**
 * Has processes that are started with an environment of their own know what those know that inherit this one's: some variables, and a module that Node loads first.
 * Returns what undoes it.
 */
export function passToChildren(preload: string, variables: Environment): () => void {
  const prototype = ChildProcess.prototype as unknown as Spawning
  const { spawn } = prototype
  const passing = function (this: unknown, options: { envPairs?: string[] }) {
    const { envPairs } = options
    return spawn.call(this as Spawning, envPairs ? { ...options, envPairs: withOurs(envPairs, preload, variables) } : options)
  }
  prototype.spawn = passing
  const module = childProcess as unknown as Record<string, (...args: unknown[]) => unknown>
  const before = Object.fromEntries(atOnce.map((name) => [name, module[name] as (...args: unknown[]) => unknown]))
  for (const name of atOnce)
    module[name] = (...args) =>
      before[name]?.(
        ...args.map((arg) => (hasEnvironment(arg) ? { ...arg, env: ofPairs(withOurs(pairsOf(arg.env), preload, variables)) } : arg)),
      )
  syncBuiltinESMExports()
  return () => {
    if (prototype.spawn === passing) prototype.spawn = spawn
    Object.assign(module, before)
    syncBuiltinESMExports()
  }
}

function hasEnvironment(arg: unknown): arg is { readonly env: Environment } {
  const { env } = (typeof arg === 'object' && arg !== null && !Array.isArray(arg) ? arg : {}) as { env?: unknown }
  return typeof env === 'object' && env !== null
}

function withOurs(pairs: readonly string[], preload: string, variables: Environment): string[] {
  const all = ofPairs(pairs)
  const options = all.NODE_OPTIONS ?? ''
  const ours = Object.fromEntries(Object.entries(variables).filter(([name, value]) => value !== undefined && all[name] === undefined))
  const nodeOptions = options.includes(preload) ? options : `${options} ${preload}`.trim()
  return pairsOf({ ...all, ...ours, NODE_OPTIONS: nodeOptions })
}

function ofPairs(pairs: readonly string[]): Record<string, string> {
  return Object.fromEntries(
    pairs.map((pair) => {
      const equals = pair.indexOf('=', 1) // on Windows names can begin with one
      return [pair.slice(0, equals), pair.slice(equals + 1)]
    }),
  )
}

function pairsOf(environment: Environment): string[] {
  return Object.entries(environment).flatMap(([name, value]) => (value === undefined ? [] : `${name}=${value}`))
}
