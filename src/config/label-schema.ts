import * as z from 'zod/mini'
import type { EndpointLabel, Labels } from '../core/rules/labels.js'
import { type Issue, isFunction, listOf, option, pointer, received, required, text } from './schema-parts.js'

const as = required(
  text((value) => value.includes('{}'), 'a text with "{}" in it, e.g. "tariff {}"'),
  'The label, with "{}" for what is found.',
)
const label = text((value) => value !== '', 'a label: a text that is not empty')
const anyPointer = text((value) => value === '' || value.startsWith('/'), 'a JSON Pointer, e.g. "/vessels"')
const fromQuery = z.strictObject({
  as,
  query: required(
    text((value) => value !== '', 'the name of a parameter'),
    'A parameter of the query.',
  ),
})
const fromAnswer = z.strictObject({
  as,
  answer: required(anyPointer, 'JSON Pointer (RFC 6901) into the answer, or the value; a list there gives a label for each of it.'),
  each: option(pointer, 'JSON Pointer into each of that list. Default: each itself.'),
})
const fromArgument = z.strictObject({ as, argument: required(pointer, 'JSON Pointer into the list of arguments, e.g. "/0/id".') })

type EndpointFunction = Extract<EndpointLabel, (...args: never[]) => unknown>
type OperationFunction = (value: never, ...args: never[]) => Labels

function list<S extends readonly z.ZodMiniType[]>(sources: S, what: string) {
  const error = (issue: Issue) => `${received(issue)} is neither a text, nor ${what}, nor a function`
  return listOf(z.union([...sources, label], { error }))
}

const ofEndpoint = z.custom<EndpointFunction>(isFunction)
const ofOperation = z.custom<OperationFunction>(isFunction)
const [byQuery, byAnswer, byArgument] = [
  '{ as: "tariff {}", query: "tariff" }',
  '{ as: "tariff {}", answer: "/id" }',
  '{ as: "tariff {}", argument: "/0" }',
]

export const endpointLabels = {
  labels: option(
    list([fromQuery, fromAnswer, ofEndpoint] as const, `${byQuery}, nor ${byAnswer}`),
    'Names under which its answers are invalidated with others, e.g. "tariff {id}" by a parameter of the path.',
  ),
  invalidates: option(
    list([fromQuery, ofEndpoint] as const, byQuery),
    'Labels whose answers a write invalidates that was answered with a status below 400.',
  ),
}

const operationSources = list([fromArgument, fromAnswer, ofOperation] as const, `${byArgument}, nor ${byAnswer}`)

export const operationLabels = {
  labels: option(operationSources, 'Names under which its values are invalidated with others.'),
  invalidates: option(
    operationSources,
    'Labels whose answers a call invalidates, once its function has returned: of an operation that writes.',
  ),
}
