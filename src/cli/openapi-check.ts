import { existsSync, readFileSync } from 'node:fs'
import pc from 'picocolors'
import { Document, type Pair, parse, type Scalar, type YAMLMap } from 'yaml'
import { type OpenApiDocument, type OpenApiOperation, readOpenApi } from '../config/openapi.js'
import type { StashConfig } from '../config/stash-config.js'
import { compileProvider } from '../core/endpoints/compile.js'
import * as terms from '../core/endpoints/compile-terms.js'
import { RuleBook } from '../core/endpoints/rule-book.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { parseRequestTemplate } from '../core/rules/request-template.js'
import { countOf } from '../render/format.js'
import { textTable } from '../render/plain-table.js'
import { printable, printableJson } from '../render/printable.js'

/** What rules cover of an API that an OpenAPI document describes, and endpoints for the rest of it. */
export function openApiText(file: string, config: StashConfig, isJson: boolean): string {
  const described = readOpenApi(contentsOf(file), file)
  const covered = coveredBy(described, config)
  const open = described.operations.filter(
    (operation) =>
      !covered.has(operation) &&
      (operation.method === 'GET' || operation.onlyAsks) &&
      parseRequestTemplate(`${operation.method} ${operation.path}`) !== undefined,
  )
  const yaml = open.length === 0 ? '' : proposal(described, open)
  const operations = described.operations.map((operation) => ({ ...operation, coveredBy: covered.get(operation) ?? null }))
  if (isJson) return `${printableJson({ ...described, operations, proposal: yaml })}\n`
  const rows = printable(operations).map(({ method, path, coveredBy }) => [`${method} ${path}`, coveredBy ?? '-'])
  const table = textTable(['operation', 'covered by'], rows, { dim: pc.dim })
  const rest =
    open.length === 0
      ? ''
      : `\nFor what only asks and is not covered, to begin with (${pc.dim('read the lifetimes, and what counts in a key')}):\n\n${yaml}`
  return `${pc.bold(printable(described.title))}, ${described.baseUrl}\n\n${table}\n\n${countOf(operations.length, 'operation')}, ${covered.size} covered\n${rest}`
}

function contentsOf(file: string): unknown {
  if (!existsSync(file)) throw new UsageError(`there is no file "${file}": name an OpenAPI document with --openapi`)
  try {
    return parse(readFileSync(file, 'utf8'))
  } catch (cause) {
    throw new UsageError(`"${file}" is neither YAML nor JSON: ${(cause as Error).message.split('\n')[0]}`, { cause })
  }
}

function coveredBy(
  { baseUrl, operations }: OpenApiDocument,
  { providers = {}, sets = {}, mode = 'reuse' }: StashConfig,
): Map<OpenApiOperation, string> {
  const common = { mode, sets, refusals: 'throw', terms } as const
  const rules = new RuleBook(Object.entries(providers).map(([name, options]) => compileProvider(name, options, common)))
  return new Map(
    operations.flatMap((operation): [OpenApiOperation, string][] => {
      const { provider, endpoint } = rules.match(operation.method, new URL(baseUrl + operation.path.replace(/[{}]/g, '')))
      return provider && endpoint ? [[operation, `${provider.name}.${endpoint.name}`]] : []
    }),
  )
}

/** Endpoints for some operations, as a configuration that measures. */
function proposal({ provider, baseUrl }: OpenApiDocument, open: readonly OpenApiOperation[]): string {
  const endpoints = open.map(({ name, method, path, onlyAsks }) => [
    name,
    { request: `${method} ${path}`, ...(onlyAsks && { safe: true }), freshFor: '1 min' },
  ])
  const yaml = new Document({ mode: 'measure', providers: { [provider]: { baseUrl, endpoints: Object.fromEntries(endpoints) } } })
  const map = yaml.getIn(['providers', provider, 'endpoints'], true) as YAMLMap
  for (const { name, query, headers, onlyAsks } of open) {
    const pair = map.items.find(({ key }) => (key as Scalar).value === name) as Pair<Scalar, YAMLMap>
    const parts = [...query.map((one) => `?${one}`), ...headers]
    const says = [...(parts.length > 0 ? [`its key counts ${parts.join(', ')}`] : []), ...(onlyAsks ? ['safe, if it only asks'] : [])]
    if (says.length > 0) pair.key.commentBefore = ` ${says.join('; ')}`
  }
  return yaml.toString({ lineWidth: 0 })
}
