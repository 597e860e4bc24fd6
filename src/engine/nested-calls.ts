/** A call of a wrapped function while the function runs. */
export interface FunctionCall {
  /** Of which operation it is. */
  readonly operation: object
  readonly key: string
  /** The calls it is made within. */
  readonly within: readonly FunctionCall[]
}

/** The calls whose functions run, each with those it is made within, by the name of the frame that awaits them. */
const running = new Map<string, readonly FunctionCall[]>()
let begun = 0

/** What such a frame is called. */
const prefix = 'call of stashen '

/** Frames of the stack that are looked at. */
const mostFrames = 200

/** Runs the function of a call. */
export function runFunction<T>(call: FunctionCall, work: () => Promise<T>): Promise<T> {
  const within = [call, ...call.within]
  if (contexts) return contexts.run(within, async () => work())
  const name = `${prefix}${++begun}`
  const frames = {
    async [name]() {
      running.set(name, within)
      try {
        return await work() // without the await, V8 would not find this frame
      } finally {
        running.delete(name)
      }
    },
  }
  return (frames[name] as () => Promise<T>)()
}

/**
 * The calls within whose functions a call is made now. On Node >= 24 asynchronous contexts say so. Elsewhere these slow every promise of the process down, or
 * are not there, and the stack says it: through `await`, in V8, else as far as it is synchronous. What a bare callback calls, of a timer or an event, is in none then.
 */
export function callsAround(): readonly FunctionCall[] {
  if (contexts) return contexts.getStore() ?? []
  if (running.size === 0) return []
  const all = frameNames().flatMap((name) => running.get(name) ?? [])
  return all.length > 1 ? [...new Set(all)] : all
}

/** `AsyncLocalStorage` of Node, which a browser has not. */
interface Contexts {
  run<T>(within: readonly FunctionCall[], work: () => T): T
  getStore(): readonly FunctionCall[] | undefined
}

/** What Node offers of asynchronous contexts, where it keeps them without following every promise. */
const contexts = ((): Contexts | undefined => {
  const { process } = globalThis as { process?: NodeJS.Process }
  const isCheap =
    Number.parseInt(process?.versions?.node ?? '', 10) >= 24 &&
    !/no-async-context-frame/.test(`${process?.execArgv} ${process?.env.NODE_OPTIONS}`)
  const hooks = isCheap ? process?.getBuiltinModule?.('node:async_hooks') : undefined
  return hooks && new hooks.AsyncLocalStorage()
})()

type NodeError = { stackTraceLimit?: number; prepareStackTrace?: unknown }

/** The names of the functions on the stack that begin as ours do. */
function frameNames(): string[] {
  const its = Error as NodeError
  const { stackTraceLimit, prepareStackTrace } = its
  try {
    its.stackTraceLimit = mostFrames
    its.prepareStackTrace = (_: unknown, sites: { getFunctionName(): string | null }[]) => sites.map((site) => site.getFunctionName())
    const stack: unknown = new Error().stack
    const names: unknown[] = Array.isArray(stack) ? stack : String(stack).split(/\n|@/)
    return names.flatMap((name) => (typeof name === 'string' && name.startsWith(prefix) ? name : []))
  } catch {
    return [] // errors are frozen here
  } finally {
    restore(its, { stackTraceLimit, prepareStackTrace })
  }
}

function restore(its: NodeError, before: NodeError): void {
  try {
    Object.assign(its, before)
  } catch {
    // nothing was changed
  }
}
