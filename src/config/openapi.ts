import * as z from 'zod/mini'
import { UsageError } from '../core/errors/setup-errors.js'
import { camelCase, providerName, singular } from '../core/traffic/name-parts.js'

/** One operation of an API, as its OpenAPI document describes it. */
export interface OpenApiOperation {
  readonly name: string
  readonly method: string
  /** The path with its parameters as ours, `{id}`. */
  readonly path: string
  /** Parameters that choose the answer: of the query, and header fields. */
  readonly query: readonly string[]
  readonly headers: readonly string[]
  /** Whether a POST only asks, by its name. */
  readonly onlyAsks: boolean
}

export interface OpenApiDocument {
  readonly title: string
  readonly provider: string
  readonly baseUrl: string
  readonly operations: readonly OpenApiOperation[]
}

const parameter = z.looseObject({ name: z.optional(z.string()), in: z.optional(z.string()), $ref: z.optional(z.string()) })
const operation = z.looseObject({ operationId: z.optional(z.string()), parameters: z.optional(z.array(parameter)) })
const document = z.looseObject({
  openapi: z.string().check(z.regex(/^3\./)),
  info: z.optional(z.looseObject({ title: z.optional(z.string()) })),
  servers: z.optional(z.array(z.looseObject({ url: z.string() }))),
  paths: z.record(z.string(), z.looseObject({ parameters: z.optional(z.array(parameter)) })),
})

const methods = ['get', 'head', 'post', 'put', 'patch', 'delete'] as const

/** Where the server stands of a document that names none, or only a path. */
const unknownServer = 'https://api.example'

/** Words by which a POST says that it only asks. */
const asking = /search|query|find|lookup|quote|estimate|graphql|batchget|list/i

/** Reads an OpenAPI document (OpenAPI Specification 3.x). Throws `UsageError` for what is none. */
export function readOpenApi(value: unknown, file: string): OpenApiDocument {
  const { data, error } = document.safeParse(value)
  if (!data) {
    const [issue] = error.issues
    throw new UsageError(
      `"${file}" is not an OpenAPI 3 document (at "${issue?.path.join('.') || 'openapi'}"): give a YAML or JSON file that has "openapi: 3..." and "paths"`,
    )
  }
  const server = data.servers?.[0]?.url.replace(/\{\w+\}/g, 'x') ?? '/'
  const baseUrl = new URL(server, unknownServer).href.replace(/\/$/, '')
  const parametersOf = (list: readonly z.infer<typeof parameter>[] = []) =>
    list.map((one) => (one.$ref === undefined ? one : resolved(data, one.$ref)))
  const operations = Object.entries(data.paths).flatMap(([path, item]) =>
    methods.flatMap((method): OpenApiOperation[] => {
      const parsed = operation.safeParse((item as Record<string, unknown>)[method])
      if (!parsed.success) return []
      const { operationId, parameters } = parsed.data
      const all = [...parametersOf(item.parameters), ...parametersOf(parameters)]
      const of = (place: string) => [
        ...new Set(all.filter((one) => one.in === place && one.name !== undefined).map((one) => one.name as string)),
      ]
      return [
        {
          ...{
            name: nameOf(operationId, method, path),
            method: method.toUpperCase(),
            path: templateOf(path),
          },
          ...{ query: of('query'), headers: of('header') },
          onlyAsks: method === 'post' && asking.test(`${operationId ?? ''} ${path}`),
        },
      ]
    }),
  )
  return { title: data.info?.title ?? file, provider: providerName(new URL(baseUrl).origin, []), baseUrl, operations: named(operations) }
}

/** A path with our parameters: of a part that has several, or one and other text, any value. */
function templateOf(path: string): string {
  const taken = new Set<string>()
  const partOf = (part: string) => {
    if (!part.includes('{')) return part
    const wanted = camelCase(part.match(/\w+/g) ?? ['id'])
    let name = wanted
    for (let i = 2; taken.has(name); i++) name = `${wanted}${i}`
    taken.add(name)
    return `{${name}}`
  }
  return path.split('/').map(partOf).join('/')
}

function nameOf(id: string | undefined, method: string, path: string): string {
  if (id !== undefined && /[A-Za-z]/.test(id)) return camelCase([id])
  const words = path.split('/').filter((part) => part !== '' && !part.startsWith('{'))
  const last = words.at(-1) ?? 'root'
  const noun = path.endsWith('}') ? singular(last) : last
  return camelCase(method === 'get' ? [noun] : [method, noun])
}

/** Each with a name of its own. */
function named(operations: readonly OpenApiOperation[]): OpenApiOperation[] {
  const taken = new Set<string>()
  return operations.map((one) => {
    let { name } = one
    for (let i = 2; taken.has(name); i++) name = `${one.name}${i}`
    taken.add(name)
    return { ...one, name }
  })
}

/** What a local reference points to (RFC 6901, as a fragment); an empty parameter where it leads nowhere. */
function resolved(data: unknown, ref: string): z.infer<typeof parameter> {
  const steps = ref.replace(/^#\//, '').split('/')
  const found = steps.reduce<unknown>(
    (at, step) =>
      typeof at === 'object' && at !== null ? (at as Record<string, unknown>)[step.replaceAll('~1', '/').replaceAll('~0', '~')] : undefined,
    data,
  )
  return parameter.safeParse(found).data ?? {}
}
