import type { Protocol } from '../core/protocols/protocol.js'
import { splitAdvice } from '../core/traffic/key-splits.js'
import type { EndpointSummary, OperationSummary, TrafficSummary } from '../core/traffic/summary.js'
import { triedLifetimes } from '../core/traffic/what-if.js'
import { countOf, countText, latencyText, shortened } from './format.js'
import { type TableRow, textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** Characters of a line, and of the name of an endpoint in it at the least and at the most. */
const [lineLength, leastName, longestName] = [80, 26, 40]

interface Column {
  readonly head: string
  readonly text: (endpoint: EndpointSummary) => string
  /** Whether it is left out where it says nothing. */
  readonly isDispensable?: boolean
}

const columnsOfCalls: readonly Column[] = [
  { head: 'calls', text: ({ calls }) => cell(calls) },
  { head: 'repeats', text: ({ repeats }) => cell(repeats) },
  { head: 'same', text: ({ same }) => cell(same) },
  { head: 'slow', text: ({ slow }) => cell(slow), isDispensable: true },
  { head: 'refused', text: ({ refused }) => cell(refused), isDispensable: true },
  { head: 'failed', text: ({ failed }) => cell(failed), isDispensable: true },
  { head: 'bytes', text: ({ bytes }) => bytesText(bytes) },
  { head: 'median', text: ({ medianMs }) => latencyText(medianMs) },
]

/** The columns that say something. */
function fittingColumns(providers: TrafficSummary['providers']): readonly Column[] {
  const endpoints = providers.flatMap((provider) => provider.endpoints)
  return columnsOfCalls.filter(({ text, isDispensable }) => !isDispensable || endpoints.some((endpoint) => text(endpoint) !== '·'))
}

/** What was seen of a program's calls, as text for a terminal. */
export function trafficText(given: TrafficSummary, { colors }: { colors: Colors }): string {
  const { calls, repeats, same, watchedMs, providers } = printable(given)
  if (calls === 0) return 'no HTTP call was seen: nothing left through fetch, node:http or node:https\n'
  const head = `${countOf(calls, 'call')} to ${countOf(providers.length, 'API')} in ${latencyText(watchedMs)}`
  const again = repeats === 0 ? 'none of them a repeat' : `${countOf(repeats, 'repeat')}, ${countText(same)} with the same answer as before`
  const columns = fittingColumns(providers)
  const seen = tableOf(
    providers,
    colors,
    columns.map(({ head }) => head),
    (endpoint) => columns.map(({ text }) => text(endpoint)),
  )
  const saved = tableOf(providers, colors, [...triedLifetimes], ({ whatIf }) =>
    whatIf.map(({ saved, outdated }) => (outdated === 0 ? cell(saved) : `${countText(saved)} (${countText(outdated)})`)),
  )
  const isAsked = providers.some(({ endpoints }) =>
    endpoints.some(({ request, protocol, repeats: its }) => its > 0 && protocol === undefined && request.startsWith('POST ')),
  )
  const spoken = providers.flatMap(({ name, endpoints }) =>
    endpoints.flatMap(({ name: endpoint, protocol, operations }) =>
      protocol ? [`${colors.yellow(protocol)}  ${name}.${endpoint}: ${protocolAdvice(protocol, operations)}\n`] : [],
    ),
  )
  const legend = [
    'same: the very bytes of the answer before; slow: 1 s or longer',
    'refused: 429 or 503; failed: no answer, or 500 and above',
    'in brackets: those of them whose answer would have been out of date',
    ...(isAsked ? ['a POST is reused only where its endpoint says "safe: true"'] : []),
  ].join('\n')
  const splits = providers.flatMap(({ name, endpoints }) =>
    endpoints.flatMap((endpoint) =>
      endpoint.splits.map((split) => `${colors.yellow('splits keys')}  ${splitAdvice(`${name}.${endpoint.name}`, split)}\n`),
    ),
  )
  const apart = splits.length + spoken.length > 0 ? `\n${[...spoken, ...splits].join('')}` : ''
  return `${colors.bold(`${head}, ${again}`)}\n\n${seen}\n\n${colors.bold('Calls that reuse would have saved, by how long answers are fresh')}\n\n${saved}\n\n${colors.dim(legend)}\n${apart}`
}

/** What to say of an endpoint whose bodies are those of a protocol. */
function protocolAdvice(protocol: Protocol, operations: readonly OperationSummary[]): string {
  if (protocol === 'graphql') return 'say protocol: "graphql", by which its queries are reused, and nothing else'
  const again = operations.filter(({ repeats }) => repeats > 0).map(({ name, repeats }) => `${name} (${countText(repeats)})`)
  const seen = again.length > 0 ? `; repeated: ${again.join(', ')}` : ''
  return `say protocol: "json-rpc", and in "byName" how long methods are fresh that only ask${seen}`
}

function tableOf(
  providers: TrafficSummary['providers'],
  colors: Colors,
  columns: readonly string[],
  cells: (endpoint: EndpointSummary) => string[],
): string {
  const cellsOf = new Map(providers.flatMap(({ endpoints }) => endpoints.map((endpoint) => [endpoint, cells(endpoint)] as const)))
  const widths = columns.map((head, i) => Math.max(head.length, ...[...cellsOf.values()].map((row) => (row[i] as string).length)))
  const room = lineLength - widths.reduce((sum, width) => sum + width + 2, 2)
  const longest = Math.min(longestName, Math.max(leastName, room))
  const rows = providers.flatMap(({ baseUrl, endpoints }): TableRow[] => [
    baseUrl.replace(/^https:\/\//, ''),
    ...endpoints.map((endpoint) => [`  ${shortened(endpoint.request, longest)}`, ...(cellsOf.get(endpoint) ?? [])]),
  ])
  return textTable(['', ...columns], rows, { dim: colors.dim, aligns: ['left', ...columns.map(() => 'right' as const)] })
}

function cell(count: number): string {
  return count === 0 ? '·' : countText(count)
}

function bytesText(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB']
  const power = Math.min(units.length - 1, bytes < 1_000 ? 0 : Math.floor(Math.log10(bytes) / 3))
  return `${(bytes / 1_000 ** power).toFixed(power === 0 ? 0 : 1)} ${units[power]}`
}
