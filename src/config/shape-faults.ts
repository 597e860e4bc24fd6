import type * as z from 'zod/mini'
import type { ConfigFault } from '../core/errors/setup-errors.js'
import { isPlainArray, isPlainObject } from '../core/rules/object-kind.js'
import { endpointPath } from './cross-checks.js'
import { optionNamesAt, withOurName } from './nearest-name.js'
import { exampleOf } from './option-examples.js'
import { received } from './schema-parts.js'

type ZodIssue = z.core.$ZodIssue

/** What is wrong with the shape of a value, in our own words. */
export function shapeFaults(schema: z.ZodMiniType, value: unknown, under: string): ConfigFault[] {
  const { error } = schema.safeParse(value, { reportInput: true })
  const faults = error ? error.issues.flatMap((issue) => faultsOfIssue(issue, schema, value, under)) : []
  return [...unseenFaults(value, under === '' ? [] : [under], 0), ...faults]
}

/** Members by a name that schemas pass over. */
function unseenFaults(value: unknown, path: readonly string[], depth: number): ConfigFault[] {
  if (typeof value !== 'object' || value === null || depth > deepest || !(isPlainArray(value) || isPlainObject(value))) return []
  return Object.entries(value).flatMap(([name, member]) => {
    const at = [...path, name]
    return name === '__proto__' ? [{ path: at.join('.'), message: 'is no name for anything' }] : unseenFaults(member, at, depth + 1)
  })
}

/** How deep a configuration is looked into for them. */
const deepest = 10

function faultsOfIssue(issue: ZodIssue, schema: z.ZodMiniType, whole: unknown, under: string): ConfigFault[] {
  const path = [under, endpointPath(issue.path)].filter((part) => part !== '').join(': ')
  switch (issue.code) {
    case 'unrecognized_keys':
      return issue.keys.map((key) => ({
        path: [path, key].filter((part) => part !== '').join('.'),
        message: `is an unknown option${withOurName(key, optionNamesAt(schema, issue.path, whole))}`,
      }))
    case 'invalid_key':
      return [{ path, message: issue.issues[0]?.message ?? issue.message }]
    case 'invalid_union': {
      if (!isOfLibrary(issue)) return [{ path, message: told(issue) }]
      const nearest = nearestOption(issue.errors)
      if (nearest.length === 0) {
        const last = issue.errors.at(-1)?.[0]
        return [{ path, message: wrongKind(issue, last && isOfLibrary(last) ? undefined : last) }]
      }
      return nearest.flatMap((inner) => faultsOfIssue({ ...inner, path: [...issue.path, ...inner.path] }, schema, whole, under))
    }
    case 'invalid_type':
      return [{ path, message: isOfLibrary(issue) ? wrongKind(issue, issue) : told(issue) }]
    default:
      return [{ path, message: withExample(told(issue), issue) }]
  }
}

const isOfLibrary = ({ message }: ZodIssue) => message.startsWith('Invalid input')

/** What is said of an issue; where nothing was given, that it is missing. */
function told({ message, input }: ZodIssue): string {
  if (input !== undefined) return message
  return message
    .replace(/^nothing is not /, 'is missing: it has to be ')
    .replace(/^nothing is neither (.*) nor /, 'is missing: it has to be $1 or ')
}

/** What only code can give, with an example of it. */
function withExample(message: string, issue: ZodIssue): string {
  const example = issue.code === 'custom' && !message.includes(': ') ? exampleAt(issue) : undefined
  return example === undefined ? message : `${message}: give one, e.g. ${example}`
}

function exampleAt({ path }: ZodIssue): string | undefined {
  const steps = path.map((step) => (typeof step === 'number' ? '[]' : String(step)))
  const [last = '', before = '', beyond = ''] = [steps.at(-1), steps.at(-2), steps.at(-3)]
  const named = before === '[]' ? `${beyond}[].${last}` : `${beyond}.*.${last}`
  return exampleOf([`${before}.*`]) ?? exampleOf([named]) ?? exampleOf([before, last])
}

/** That a value is of another kind than its option takes, with an example of that. `inner`: what one of its alternatives says. */
function wrongKind(issue: ZodIssue, inner: ZodIssue | undefined): string {
  if (inner && !isOfLibrary(inner)) return told(inner)
  const example = exampleAt(issue)
  const noun = issue.path.at(-1) === 'json' ? 'JSON' : inner?.code === 'invalid_type' ? nounOf(inner.expected) : 'what this option takes'
  return told({ ...issue, message: `${received(issue)} is not ${noun}${example === undefined ? '' : `: write ${example}`}` })
}

/** The faults of the alternative that was most likely meant: of the right kind as a whole, and with the fewest faults in it. */
function nearestOption(alternatives: readonly (readonly ZodIssue[])[]): readonly ZodIssue[] {
  const rightKind = alternatives.filter((issues) => issues.every(({ code, path }) => path.length > 0 || code === 'unrecognized_keys'))
  return [...rightKind].sort((a, b) => a.length - b.length)[0] ?? []
}

function nounOf(expected: string): string {
  if (expected === 'object') return 'an object with options'
  if (expected === 'record') return 'an object of them by name'
  return `${/^[aeiou]/.test(expected) ? 'an' : 'a'} ${expected}`
}
