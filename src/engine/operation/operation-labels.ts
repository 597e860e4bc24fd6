import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import {
  compileLabels,
  type LabelFromAnswer,
  type LabelFromArgument,
  type LabelSource,
  type Labels,
  type LabelText,
  labelsOf,
} from '../../core/rules/labels.js'
import { factsOf, type OperationParts } from './operation-call.js'

/** A function that can be wrapped: it takes what it likes and returns a promise. */
// biome-ignore lint/suspicious/noExplicitAny: it is whatever the function that is wrapped takes
export type AsyncFunction = (...args: any[]) => Promise<unknown>

/** Where a label of an operation's values comes from. */
export type OperationLabel<F extends AsyncFunction = AsyncFunction> =
  | string
  | LabelFromArgument
  | LabelFromAnswer
  | ((value: Awaited<ReturnType<F>>, ...args: Parameters<F>) => Labels)

export function compiledLabels<F extends AsyncFunction>(
  sources: readonly OperationLabel<F>[] | undefined,
): readonly LabelSource[] | undefined {
  type Said = Extract<OperationLabel<F>, (...args: never[]) => unknown>
  return compileLabels<Said>(sources as readonly (LabelText | Said)[] | undefined, (source, { value, args = [] }) =>
    source(value as Awaited<ReturnType<F>>, ...(args as Parameters<F>)),
  )
}

interface Changing {
  /** Invalidates what has one of these labels, stored or on its way. */
  readonly invalidateLabels: (labels: readonly string[]) => Promise<void>
  readonly warn: (message: string) => void
}

/** What a call has changed. Where its labels fail, or the store, that is reported, and the call is answered. */
export function changedBy(
  sources: readonly LabelSource[] | undefined,
  { provider, name }: Endpoint,
  { invalidateLabels, warn }: Changing,
): OperationParts['changed'] {
  const troubles = new OncePerEpisode(warn)
  return (
    sources &&
    (async (value, args) => {
      try {
        await invalidateLabels(labelsOf(sources, { value, args, answer: factsOf(() => value) }))
        troubles.fine()
      } catch (error) {
        troubles.trouble(`what ${provider}.${name} changed cannot be invalidated`, error)
      }
    })
  )
}
