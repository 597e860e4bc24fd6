import Table from 'cli-table3'
import type { ProviderStatus } from '../core/limits/status.js'
import type { StoreStatus } from '../core/ports/store-status.js'
import { differenceText } from './forecast-text.js'
import { ageText, countOf, countText, latencyText, momentText } from './format.js'
import { noLines } from './plain-table.js'
import { printable } from './printable.js'
import type { Colors } from './text-options.js'

/** What `statusText` writes down. */
export interface StatusModel {
  readonly at: Date
  readonly store: StoreStatus
  readonly providers: readonly ProviderStatus[]
}

/** How things stand, as text for a terminal; moments in `zone` (IANA). */
export function statusText(given: StatusModel, { colors, zone }: { colors: Colors; zone: string }): string {
  const { at, store, providers } = printable(given)
  const now = at.getTime()
  const size = store.entries === null ? '' : `, ${countOf(store.entries, 'entry', 'entries')}, ${countOf(store.bytes ?? 0, 'byte')}`
  const health = store.trouble === null ? `${colors.green('works')}${size}` : `${colors.red('in trouble')}: ${store.trouble}`
  const table = new Table({ style: { head: [], border: [], compact: true, 'padding-left': 0, 'padding-right': 2 }, chars: noLines })
  for (const provider of providers) {
    table.push([{ colSpan: 4, content: '' }], [{ colSpan: 4, content: colors.bold(provider.provider) }])
    table.push(...providerRows(provider, now, { colors, zone }))
  }
  const rows = providers.length === 0 ? '\nno provider was called yet' : table.toString().replace(/ +$/gm, '')
  return `${colors.bold('store')}  ${health}\n${placeText(store, colors)}${sizesText(store)}${rows}\n`
}

/** What a store is on, and how that does. */
function placeText({ on, writable, answersInMs, clockAheadMs, drops }: StoreStatus, colors: Colors): string {
  if (on === null) return ''
  const clock =
    clockAheadMs === null || Math.abs(clockAheadMs) < tellClockFromMs
      ? undefined
      : `its clock ${latencyText(Math.abs(clockAheadMs))} ${clockAheadMs > 0 ? 'ahead' : 'behind'}`
  const parts = [
    on,
    answersInMs === null ? undefined : `answers in ${latencyText(answersInMs)}`,
    clock,
    writable === false ? colors.red('cannot be written') : undefined,
    drops === null ? undefined : colors.yellow(`drops keys when it is full (${drops}): limits and counts may get lost`),
  ]
  return `       ${parts.filter((part) => part !== undefined).join(', ')}\n`
}

/** How much is stored of each endpoint. */
function sizesText({ endpoints }: StoreStatus): string {
  if (endpoints === null) return ''
  const cells = endpoints.map(({ provider, endpoint, entries, bytes }) => [
    `${provider}.${endpoint}`,
    countOf(entries, 'answer'),
    countOf(bytes, 'byte'),
  ])
  const widths = [0, 1, 2].map((i) => Math.max(...cells.map((row) => (row[i] as string).length)))
  return cells
    .map(
      ([name = '', ...counts]) =>
        `       ${[name.padEnd(widths[0] as number), ...counts.map((text, i) => text.padStart(widths[i + 1] as number))].join('  ')}\n`,
    )
    .join('')
}

/** Clocks that are less apart agree, milliseconds. */
const tellClockFromMs = 100

type Rows = Parameters<InstanceType<typeof Table>['push']>

function providerRows(provider: ProviderStatus, now: number, { colors, zone }: { colors: Colors; zone: string }): Rows {
  const rows: Rows = []
  const moment = (at: Date) => momentText(at, zone, 'medium')
  const when = (at: Date) => {
    const left = at.getTime() - now
    return `${moment(at)} (${left > 0 ? `in ${ageText(left)}` : `${ageText(-left)} ago`})`
  }
  for (const { limit, left, calls, leftInBackground, roomAgainAt, reported } of provider.limits) {
    const again = roomAgainAt === null ? '' : `room again by ${when(roomAgainAt)}`
    const count = `${countText(left)} of ${countText(calls)} left`
    rows.push(['  limit', limit, left > 0 ? count : colors.yellow(count), again || `${countText(leftInBackground)} for background calls`])
    if (reported && reported.fewer !== 0) rows.push(['', '', `${countText(reported.left)} by its own word`, differenceText(reported.fewer)])
  }
  for (const { budget, amount, currency, spent, level, until } of provider.budgets) {
    const [unit, of] = currency === null ? ['calls', countText(Number(amount))] : [currency, amount]
    const count = `${spent} of ${of} ${unit} spent`
    const words = { free: '', warn: 'nearly spent', stretch: 'stretched with older answers', stop: 'spent, nothing leaves' }
    const shown = level === 'free' ? count : level === 'stop' ? colors.red(count) : colors.yellow(count)
    rows.push(['  budget', budget, shown, [words[level], until && `until ${when(until)}`].filter(Boolean).join(', ')])
  }
  for (const { name, left, calls, until } of provider.reported) {
    const of = calls === null ? '' : ` of ${countText(calls)}`
    rows.push(['  reported', name || 'by the provider', `${countText(left)}${of} left`, `until ${when(until)}`])
  }
  if (provider.pausedUntil !== null) rows.push(['  reported', 'to wait', '', `until ${when(provider.pausedUntil)}`])
  for (const { endpoint, path, failures, until, state } of provider.holdOffs) {
    const words = { 'held-off': colors.red('held off'), trying: 'one call tries', over: 'the next call tries' }
    rows.push([
      '  hold-off',
      [endpoint ?? 'the whole provider', path].filter(Boolean).join(' '),
      words[state],
      `${countText(failures)} ${failures === 1 ? 'failure' : 'failures'}, until ${when(until)}`,
    ])
  }
  rows.push(['  waiting', countOf(provider.waiting, 'call'), '', ''])
  if (provider.lastSuccessAt) rows.push(['  last answer', when(provider.lastSuccessAt), '', ''])
  const { lastError } = provider
  if (lastError) rows.push(['  last error', when(lastError.at), { colSpan: 2, content: `${lastError.endpoint}: ${lastError.what}` }])
  return rows
}
