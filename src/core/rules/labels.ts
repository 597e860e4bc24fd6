import type { AnswerFacts } from './freshness.js'
import { atPointer } from './json-pointer.js'
import type { KeyedRequest } from './keying.js'

/** Of what a label is made: `as` with what is found in place of `{}`, or with each of what is found where that is a list. */
export interface LabelFromQuery {
  readonly as: string
  /** A parameter of the query. */
  readonly query: string
}
export interface LabelFromAnswer {
  readonly as: string
  /** JSON Pointer (RFC 6901) into the JSON of the answer, or into the value of an operation. */
  readonly answer: string
  /** JSON Pointer into each of the list that is found. Default: each itself. */
  readonly each?: string
}
export interface LabelFromArgument {
  readonly as: string
  /** JSON Pointer into the list of arguments: `/0/id`. */
  readonly argument: string
}

/** A label, or several. */
export type Labels = string | readonly string[]

/** Where labels of an endpoint's answers come from. A text is a label; it may have parameters of the path in it: `tariff {id}`. */
export type EndpointLabel = string | LabelFromQuery | LabelFromAnswer | ((request: KeyedRequest, answer: AnswerFacts) => Labels)

/** What labels are made of. */
export interface LabelFacts {
  readonly request?: KeyedRequest
  /** The value of an operation. */
  readonly value?: unknown
  readonly path?: ReadonlyMap<string, string>
  readonly query?: URLSearchParams
  readonly args?: readonly unknown[]
  /** Undefined before it has come. */
  readonly answer?: AnswerFacts
}

/** Labels of one source, from the facts of a call. */
export interface LabelSource {
  /** Whether only the answer says. */
  readonly needsAnswer: boolean
  of(facts: LabelFacts): readonly string[]
}

/** Labels of one entry, and characters of one, at the most. */
const mostLabels = 1_000
const longestLabel = 500

/** A source but for functions. */
export type LabelText = string | LabelFromQuery | LabelFromAnswer | LabelFromArgument

/** Compiles sources; `said`: what a function among them says. Undefined where there are none. */
export function compileLabels<F extends (...args: never[]) => unknown>(
  sources: readonly (LabelText | F)[] | undefined,
  said: (source: F, facts: LabelFacts) => unknown,
): readonly LabelSource[] | undefined {
  if (sources === undefined || sources.length === 0) return undefined
  return sources.map((source) =>
    typeof source === 'function' ? { needsAnswer: true, of: (facts) => asLabels(said(source, facts)) } : compileLabel(source),
  )
}

function compileLabel(source: LabelText): LabelSource {
  if (typeof source === 'string') {
    const fill = ({ path }: LabelFacts) => source.replace(/\{(\w+)\}/g, (whole, name: string) => path?.get(name) ?? whole)
    return { needsAnswer: false, of: (facts) => [fill(facts)] }
  }
  const texts = (found: unknown) => textsIn(found).map((text) => source.as.replaceAll('{}', () => text))
  if ('query' in source) return { needsAnswer: false, of: ({ query }) => texts(query?.getAll(source.query)) }
  if ('argument' in source) return { needsAnswer: false, of: ({ args }) => texts(atPointer(args, source.argument)) }
  const { answer: pointer, each } = source
  return {
    needsAnswer: true,
    of({ answer }) {
      const found = atPointer(jsonOf(answer), pointer)
      return texts(each !== undefined && Array.isArray(found) ? found.map((one) => atPointer(one, each)) : found)
    },
  }
}

/** The labels of all sources, each once. Throws what a function of the configuration throws, and a `TypeError` where these are no labels. */
export function labelsOf(sources: readonly LabelSource[], facts: LabelFacts): readonly string[] {
  const labels = [...new Set(sources.flatMap((source) => source.of(facts)))]
  for (const label of labels as unknown[])
    if (typeof label !== 'string' || label === '' || label.length > longestLabel)
      throw new TypeError(`a label has to be a text of 1 to ${longestLabel} characters`)
  if (labels.length > mostLabels)
    throw new TypeError(`it has ${labels.length} labels, and there can be ${mostLabels}: give it one that stands for all`)
  return labels
}

/** The labels that are known before an answer; null where only that says, and undefined where there are none. */
export function labelsBefore(sources: readonly LabelSource[] | undefined, facts: () => LabelFacts): readonly string[] | null | undefined {
  if (!sources) return undefined
  try {
    return sources.some(({ needsAnswer }) => needsAnswer) ? null : labelsOf(sources, facts())
  } catch {
    return null // which is said when the answer has come
  }
}

/** What a function of the configuration returned, as a list. */
function asLabels(returned: unknown): readonly string[] {
  if (typeof returned !== 'string' && !Array.isArray(returned))
    throw new TypeError('its function returned neither a label nor a list of them')
  return typeof returned === 'string' ? [returned] : (returned as string[])
}

function textsIn(found: unknown): string[] {
  return (Array.isArray(found) ? found : [found]).flatMap((one) =>
    typeof one === 'string' || typeof one === 'number' ? [String(one)] : [],
  )
}

/** An answer that is no JSON has no labels by pointers into it. */
function jsonOf(answer: AnswerFacts | undefined): unknown {
  try {
    return answer?.json()
  } catch {
    return undefined
  }
}
