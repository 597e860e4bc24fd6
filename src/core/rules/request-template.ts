import { normalisePercent } from './normalise-url.js'

/** A part of a path: a literal segment, `{name}` for any one segment, or a last `*` for one or more. */
type PathPart =
  | { readonly kind: 'literal'; readonly text: string }
  | { readonly kind: 'any'; readonly name: string }
  | { readonly kind: 'rest' }

/** A compiled `"GET /stations/{id}/tides?kind=spring"`. */
export interface RequestTemplate {
  readonly method: string
  readonly path: readonly PathPart[]
  /** Query parameters that must stand in the request once, with this value. */
  readonly query: readonly (readonly [name: string, value: string])[]
}

/** Compiles a method, a path template and fixed query values; undefined where the text is no such thing. `ignoreCase`: literals in small letters. */
export function parseRequestTemplate(text: string, { ignoreCase = false }: { ignoreCase?: boolean } = {}): RequestTemplate | undefined {
  const [, method, path, query] = /^([A-Z]+) (\/[^?#\s]*)(?:\?([^#\s]+))?$/.exec(text) ?? []
  if (method === undefined || path === undefined || /[{}]/.test(query ?? '')) return undefined
  const segments = segmentsOf(path)
  const parts = segments.map((segment, i) => partOf(segment, i === segments.length - 1, ignoreCase))
  if (parts.some((part) => part === undefined) || repeated(segments) !== undefined) return undefined
  return { method, path: parts as PathPart[], query: [...new URLSearchParams(query)] }
}

/** What is wrong with a text that is no such thing, and what to write; undefined where that is not known. */
export function templateMistake(text: string): string | undefined {
  const [, method = '', rest = ''] = /^(\S+) (.*)$/.exec(text) ?? []
  if (/^\/\S*$/.test(text)) return `has no method: write "GET ${text}"`
  if (/^[a-z]+$/i.test(method) && method !== method.toUpperCase())
    return `has its method in small letters: write "${method.toUpperCase()} ${rest}"`
  if (/^https?:/i.test(rest)) return 'has the base URL in it: write only what follows that, e.g. "GET /stations/{id}"'
  if (/^[A-Z]+ {2,}\//.test(text)) return `has more than one space: write "${method} ${rest.trimStart()}"`
  if (/^[A-Z]+$/.test(method) && rest !== '' && !rest.startsWith('/')) return `has a path without "/" before it: write "${method} /${rest}"`
  if (/\?.*[{}]/.test(rest))
    return `has a parameter of the query for any value, which needs none: write "${method} ${rest.replace(/\?.*/, '')}", the query counts in the key`
  const twice = repeated(segmentsOf(rest.replace(/\?.*/, '')))
  if (twice !== undefined) return `has ${twice} twice: give each parameter a name of its own`
  const [, name] = /\/:(\w+)(?=[/?]|$)/.exec(rest) ?? []
  return name === undefined ? undefined : `has ":${name}" for a segment of any value: write "{${name}}"`
}

/** The first parameter that stands in a path twice. */
function repeated(segments: readonly string[]): string | undefined {
  return segments.find((segment, i) => /^\{\w+\}$/.test(segment) && segments.indexOf(segment) < i)
}

function partOf(segment: string, isLast: boolean, ignoresCase: boolean): PathPart | undefined {
  if (/^\{\w+\}$/.test(segment)) return { kind: 'any', name: segment.slice(1, -1) }
  if (segment === '*') return isLast ? { kind: 'rest' } : undefined
  if (/[{}*]|^:\w+$/.test(segment)) return undefined
  const text = normalisePercent(segment)
  return { kind: 'literal', text: ignoresCase ? text.toLowerCase() : text }
}

/** The segments of a path, percent-encoding untouched: `/a/b` has two, `/` has one empty one. */
export function segmentsOf(path: string): string[] {
  return path.slice(1).split('/')
}

/** The names of a template's parameters, `{id}`. */
export function parametersOf({ path }: RequestTemplate): string[] {
  return path.flatMap((part) => (part.kind === 'any' ? [part.name] : []))
}

/** What a path gives for the parameters of a template that covers it, decoded; its segments are those below the base URL. */
export function parameterValues({ path }: RequestTemplate, segments: readonly string[]): ReadonlyMap<string, string> {
  return new Map(path.flatMap((part, i) => (part.kind === 'any' ? [[part.name, decoded(segments[i] ?? '')] as const] : [])))
}

function decoded(segment: string): string {
  try {
    return decodeURIComponent(segment)
  } catch {
    return segment
  }
}

function caseHint(one: string, other: string): string {
  return one.toLowerCase() === other.toLowerCase() ? ': only the case differs, see "ignoreCase"' : ''
}

/** In what a request differs from a template; its segments are those below the base URL. None where the template covers it. */
export function differences(template: RequestTemplate, method: string, segments: readonly string[], query: URLSearchParams): string[] {
  const { path } = template
  const open = path.at(-1)?.kind === 'rest'
  const length = open ? segments.length >= path.length : segments.length === path.length
  return [
    ...(method === template.method ? [] : [`method is ${method}, not ${template.method}`]),
    ...(length ? [] : [`path has ${segments.length} segments, not ${open ? 'at least ' : ''}${path.length}`]),
    ...path.flatMap((part, i) =>
      part.kind !== 'literal' || segments[i] === undefined || part.text === segments[i]
        ? []
        : [`segment ${i + 1} is "${segments[i]}", not "${part.text}"${caseHint(part.text, segments[i])}`],
    ),
    ...template.query.flatMap(([name, value]) => {
      const given = query.getAll(name)
      return given.length === 1 && given[0] === value ? [] : [`query has no single ${name}=${value}`]
    }),
  ]
}

/**
 * Whether two templates are equally specific and some request matches both, so that nothing says which is meant: the same method and
 * path, as many fixed query values, and none that contradicts one of the other.
 */
export function areTied(one: RequestTemplate, other: RequestTemplate): boolean {
  if (pathShape(one) !== pathShape(other) || one.query.length !== other.query.length) return false
  const values = new Map(one.query)
  return other.query.every(([name, value]) => !values.has(name) || values.get(name) === value)
}

function pathShape({ method, path }: RequestTemplate): string {
  return `${method} ${path.map((part) => (part.kind === 'literal' ? part.text : part.kind === 'any' ? '{}' : '*')).join('/')}`
}
