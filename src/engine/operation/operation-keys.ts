import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { ArgumentsUnkeyableError } from '../../core/errors/call-errors.js'
import { Remembered } from '../../core/remembered.js'
import { argumentKey, canonicalKey, type KeyOwner } from '../../core/rules/argument-key.js'
import { mayUseReceiver } from './receiver.js'

/** Keys of one-string calls remembered for an operation, in bytes at the most. */
const rememberedBytes = 256 * 1024

/** The keys of an operation's calls. */
export class OperationKeys {
  readonly #owner: KeyOwner
  readonly #keyedBy: ((...args: never[]) => unknown) | undefined
  readonly #readsReceiver: boolean
  readonly #known = new Remembered<string>(rememberedBytes)

  constructor(
    { provider, name, version }: Endpoint,
    fn: (...args: never[]) => unknown,
    keyedBy: ((...args: never[]) => unknown) | undefined,
  ) {
    this.#owner = { provider, name, prefix: `${provider}.${name}${version === undefined ? '' : `@${version}`}` }
    this.#keyedBy = keyedBy
    this.#readsReceiver = keyedBy === undefined && mayUseReceiver(fn)
  }

  /** The key of a call on `self`. Throws `ARGUMENTS_UNKEYABLE` where it has none. */
  of(self: unknown, args: readonly unknown[]): string {
    if (this.#keyedBy) return canonicalKey(this.#owner, this.#keyedBy.apply(self, args as never[]))
    if (this.#readsReceiver && self !== undefined && self !== globalThis) throw calledAsMethod(this.#owner)
    const only = args.length === 1 ? args[0] : undefined
    if (typeof only !== 'string') return argumentKey(this.#owner, args)
    let key = this.#known.get(only)
    if (key === undefined) {
      key = argumentKey(this.#owner, args)
      this.#known.set(only, key, [key])
    }
    return key
  }
}

function calledAsMethod({ provider, name }: KeyOwner): Error {
  return new ArgumentsUnkeyableError(
    provider,
    name,
    `operation "${provider}.${name}" was called as a method, and its function may use "this", which is no part of its key: wrap a bound function, as in vessel.find.bind(vessel), under a name for each object, or give the operation a "keyedBy" function that returns what distinguishes its answers`,
  )
}
