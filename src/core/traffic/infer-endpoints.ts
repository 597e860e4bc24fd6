import { grouped } from '../grouped.js'
import { camelCase, isOfBase, isReserved, isVariable, mostWords, providerName, singular, variableName } from './name-parts.js'
import type { SeenCall } from './seen-call.js'

/** An endpoint as it follows from the calls to it. */
interface SeenEndpoint {
  readonly name: string
  /** Method and path template: `GET /stations/{id}`. */
  readonly request: string
  /** In the order in which they left. */
  readonly calls: readonly SeenCall[]
}

/** An API as it follows from the calls to it. */
export interface SeenProvider {
  readonly name: string
  readonly baseUrl: string
  readonly endpoints: readonly SeenEndpoint[]
}

/** A path template, part by part, with the calls that it covers. */
interface Shape {
  readonly method: string
  readonly parts: readonly string[]
  readonly calls: readonly SeenCall[]
}

interface Row {
  readonly parts: readonly string[]
  readonly call: SeenCall
}

/** Parts of a path that are looked at; what follows is `*`. */
const mostParts = 12

/** The APIs and endpoints that calls went to: those of most calls first. Parts of paths that differ from call to call become `{id}`. */
export function inferEndpoints(calls: readonly SeenCall[]): SeenProvider[] {
  const names: string[] = []
  return byMost([...grouped(calls, ({ origin }) => origin)].map(([origin, its]) => ({ origin, calls: its }))).map(
    ({ origin, calls: its }) => {
      const name = providerName(origin, names)
      names.push(name)
      const shapes = byMost([...grouped(its, ({ method }) => method)].flatMap(([method, some]) => shapesOf(method, some)))
      const base = commonBase(shapes)
      return { name, baseUrl: [origin, ...base].join('/'), endpoints: named(shapes, base.length) }
    },
  )
}

function byMost<T extends { readonly calls: readonly SeenCall[] }>(all: T[]): T[] {
  return all.sort((a, b) => b.calls.length - a.calls.length)
}

function shapesOf(method: string, calls: readonly SeenCall[]): Shape[] {
  const rows = calls.map((call): Row => {
    const parts = call.path.split('/').slice(1)
    return { call, parts: parts.length > mostParts ? [...parts.slice(0, mostParts), '*'] : parts }
  })
  return under(method, [], rows)
}

/** The templates of rows that have their first parts in common. */
function under(method: string, before: readonly string[], rows: readonly Row[]): Shape[] {
  const depth = before.length
  const [ends, others] = [rows.filter(({ parts }) => parts.length === depth), rows.filter(({ parts }) => parts.length > depth)]
  const shapes: Shape[] = ends.length === 0 ? [] : [{ method, parts: before, calls: ends.map(({ call }) => call) }]
  const words = [...new Set(others.map(({ parts }) => parts[depth] as string))]
  const isFixed = (word: string) => word === '' || depth === mostParts
  const plain = words.filter((word) => isFixed(word) || !isVariable(word))
  const kept = new Set(plain.filter((word) => isFixed(word) || isReserved(word)))
  if (plain.length - kept.size <= mostWords(before.at(-1), words.some(isVariable))) for (const word of plain) kept.add(word)
  for (const [word, some] of grouped(others, ({ parts }) => (kept.has(parts[depth] as string) ? (parts[depth] as string) : undefined))) {
    shapes.push(...under(method, [...before, word ?? `{${variableIn(before, some)}}`], some))
  }
  return shapes
}

function variableIn(before: readonly string[], rows: readonly Row[]): string {
  const taken = before.filter((part) => part.startsWith('{')).map((part) => part.slice(1, -1))
  return variableName(
    rows.map(({ parts }) => parts[before.length] as string),
    before.findLast((part) => !part.startsWith('{')),
    taken,
  )
}

/** The leading parts that belong to the base URL: all paths have them, and something after them. */
function commonBase(shapes: readonly Shape[]): readonly string[] {
  const first = shapes[0]?.parts ?? []
  let length = 0
  while (isOfBase(first[length] ?? '') && shapes.every(({ parts }) => parts[length] === first[length] && parts.length > length + 1))
    length++
  return first.slice(0, length)
}

function named(shapes: readonly Shape[], baseLength: number): SeenEndpoint[] {
  const taken = new Set<string>()
  return shapes.map(({ method, parts, calls }) => {
    const path = parts.slice(baseLength)
    const words = path.filter((part) => part !== '' && part !== '*' && !part.startsWith('{'))
    const last = words.at(-1) ?? 'root'
    const noun = path.at(-1)?.startsWith('{') ? singular(last) : last
    const longer = words.slice(0, -1).map((word, i) => (path[path.indexOf(word) + 1]?.startsWith('{') && i >= 0 ? singular(word) : word))
    const wanted = [[noun], [...longer, noun], [method.toLowerCase(), ...longer, noun], [...path, method].map((part) => part || 'root')]
    const names = (method === 'GET' ? wanted : wanted.slice(method === 'POST' && words.length > 1 ? 0 : 2)).map(camelCase)
    let name = names.find((one) => !taken.has(one)) ?? (names.at(-1) as string)
    for (let i = 2; taken.has(name); i++) name = `${names.at(-1)}${i}`
    taken.add(name)
    return { name, request: `${method} /${path.join('/')}`, calls }
  })
}
