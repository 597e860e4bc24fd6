import type { CallOptions } from '../../core/endpoints/options.js'
import { ownCopy } from '../../core/rules/own-copy.js'
import type { AsyncFunction } from './operation-labels.js'
import type { Operation } from './wrap-operation.js'

/** An operation that is being made; `checkCallOptions` throws at once for options of a call that are wrong. */
export interface OperationToCome<F extends AsyncFunction> {
  readonly make: () => Promise<Operation<F>>
  readonly checkCallOptions: (options: CallOptions) => void
}

/** An operation whose code is loaded meanwhile: calls made before it is there wait for it. */
export function operationLater<F extends AsyncFunction>({ make, checkCallOptions }: OperationToCome<F>): Operation<F> {
  let made: Operation<F> | undefined
  let coming: Promise<Operation<F>> | undefined
  const ready = () => {
    coming ??= make().then(
      (operation) => (made = operation),
      (error) => {
        coming = undefined // so that the next call tries again
        throw error
      },
    )
    return coming
  }
  ready().catch(() => {}) // told to whoever calls

  function called(this: ThisParameterType<F>, ...args: Parameters<F>): Promise<Awaited<ReturnType<F>>> {
    if (made) return made.apply(this, args)
    const own = ownCopy(args)
    return ready().then((operation) => operation.apply(this, own))
  }
  /** On which object its methods are called: on itself, it is on what it stands for. */
  const receiver = (self: unknown, operation: Operation<F>) => (self === called ? operation : self) as Operation<F>

  return Object.assign(called, {
    async withOutcome(this: unknown, ...args: Parameters<F>) {
      const own = ownCopy(args)
      const operation = await ready()
      return operation.withOutcome.apply(receiver(this, operation), own)
    },
    async explain(this: unknown, ...args: Parameters<F>) {
      const own = ownCopy(args)
      const operation = await ready()
      return operation.explain.apply(receiver(this, operation), own)
    },
    async put(this: unknown, ...given: Parameters<Operation<F>['put']>) {
      const own = ownCopy(given)
      const operation = await ready()
      return operation.put.apply(receiver(this, operation), own)
    },
    async warm(this: unknown, ...given: Parameters<Operation<F>['warm']>) {
      const operation = await ready()
      return operation.warm.apply(receiver(this, operation), given)
    },
    calling(options: CallOptions): Operation<F> {
      checkCallOptions(options)
      const own = { ...options }
      return operationLater({ make: async () => (await ready()).calling(own), checkCallOptions })
    },
  }) as Operation<F>
}
