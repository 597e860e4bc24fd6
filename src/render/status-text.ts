import Table from 'cli-table3'
import type { ProviderStatus } from '../core/limits/status.js'
import { noLines } from './plain-table.js'
import type { Colors } from './report-text.js'
import { ageText, countText, momentText } from './words.js'

/** What `statusText` writes down. */
export interface StatusModel {
  readonly at: string
  readonly store: { readonly trouble: string | null; readonly entries: number | null; readonly bytes: number | null }
  readonly providers: readonly ProviderStatus[]
}

/** How things stand, as text for a terminal; moments in `zone` (IANA). */
export function statusText({ at, store, providers }: StatusModel, { colors, zone }: { colors: Colors; zone: string }): string {
  const now = Date.parse(at)
  const extent = store.entries === null ? '' : `, ${countText(store.entries)} entries, ${countText(store.bytes)} bytes`
  const health = store.trouble === null ? `${colors.green('works')}${extent}` : `${colors.red('in trouble')}: ${store.trouble}`
  const parts = providers.map((provider) => providerText(provider, now, { colors, zone }))
  const none = providers.length === 0 ? ['no provider was called yet\n'] : []
  return [`${colors.bold('store')}  ${health}\n`, ...parts, ...none].join('\n')
}

function providerText(provider: ProviderStatus, now: number, { colors, zone }: { colors: Colors; zone: string }): string {
  const table = new Table({ style: { head: [], border: [], compact: true, 'padding-left': 0, 'padding-right': 2 }, chars: noLines })
  const moment = (iso: string) => momentText(iso, zone, 'medium')
  const when = (iso: string) =>
    `${moment(iso)} (${Date.parse(iso) > now ? `in ${ageText(Date.parse(iso) - now)}` : `${ageText(now - Date.parse(iso))} ago`})`
  for (const { limit, left, calls, leftInBackground, roomAgainAt } of provider.limits) {
    const again = roomAgainAt === null ? '' : `room again by ${when(roomAgainAt)}`
    const count = `${countText(left)} of ${countText(calls)} left`
    table.push(['  limit', limit, left > 0 ? count : colors.yellow(count), again || `${countText(leftInBackground)} for background calls`])
  }
  for (const { name, left, calls, until } of provider.told) {
    const of = calls === null ? '' : ` of ${countText(calls)}`
    table.push(['  told', name || 'by the provider', `${countText(left)}${of} left`, `until ${when(until)}`])
  }
  if (provider.notBefore !== null) table.push(['  told', 'to wait', '', `until ${when(provider.notBefore)}`])
  for (const { endpoint, failures, until, state } of provider.holdOffs) {
    const words = { 'held-off': colors.red('held off'), trying: 'one call tries', over: 'the next call tries' }
    table.push(['  hold-off', endpoint ?? 'the whole provider', words[state], `${failures} failures, until ${when(until)}`])
  }
  table.push(['  waiting', `${countText(provider.waiting)} calls`, '', ''])
  if (provider.lastSuccessAt) table.push(['  last answer', when(provider.lastSuccessAt), '', ''])
  const { lastError } = provider
  if (lastError) table.push(['  last error', when(lastError.at), lastError.endpoint, lastError.what])
  return `${colors.bold(provider.provider)}\n${table.toString().replace(/ +$/gm, '')}\n`
}
