import type { BillForecast } from '../../core/ledger/bill-forecast.js'
import type { Report } from '../../core/ledger/report-model.js'
import { changeTable } from '../change-table.js'
import { ageText, budgetText, countText, latencyText, momentText, moneyText as money, periodDays, shareText } from '../format.js'
import { labelHeads, labelTable } from '../label-table.js'
import { printable } from '../printable.js'
import { notesOf, remarkOf } from '../remarks.js'
import type { Draw } from './charts.js'
import type { Figure } from './figure.js'
import { escaped, table } from './markup.js'
import { chartsOf } from './report-charts.js'

/** A report as one HTML page that needs nothing else: light or dark as the reader's system is, and fit to be printed. */
export function reportHtml(given: Report, { zone, draw }: { readonly zone: string; readonly draw: Draw }): string {
  const report = printable(given)
  const { since, until } = report
  const span = since === null || until === null ? 'no calls' : `${momentText(since, zone)} to ${momentText(until, zone)} (${zone})`
  const charts = chartsOf(report, zone).map(({ title, words, data, option }) => {
    const drawing = draw(option).replace('<svg', `<svg role="img" aria-label="${escaped(`${title}. ${words}`)}"`)
    return `<figure><figcaption>${escaped(title)}</figcaption>${drawing}<p class="words">${escaped(words)}</p>${dataOf(title, data)}</figure>`
  })
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark">
<title>Calls, ${escaped(span)}</title>
<style>${css}</style>
</head>
<body>
<main>
<h1>Calls to third-party APIs</h1>
<p class="span">${escaped(span)}</p>
<p class="span">${basisText(report)} ${escaped(report.savedMeans)}</p>
<section class="tiles" aria-label="Summary">${tilesOf(report).map(tile).join('')}</section>
<section class="charts" aria-label="Charts">${charts.join('')}</section>
${noteList(report)}
${endpointTable(report)}
${changeSection(report)}
${labelSection(report)}
${keyTable(report)}
${periodTable(report)}
${budgetTable(report)}
</main>
</body>
</html>
`
}

/** The data of a chart, for those who want to read it or do not see it. */
function dataOf(title: string, { heads, rows }: Figure['data']): string {
  return `<details><summary>Data of \u201c${escaped(title)}\u201d</summary>${table(heads, rows, title)}</details>`
}

/** What a reader must know beside the figures. */
function noteList(report: Report): string {
  const notes = notesOf(report).map((note) => `<li>${escaped(note)}</li>`)
  return notes.length === 0 ? '' : `<section class="notes" aria-label="Notes"><ul>${notes.join('')}</ul></section>`
}

function basisText({ totals: { without, with: reused } }: Report): string {
  if (!reused) return 'Measured: nothing was reused so far.'
  return without.basis === 'measured'
    ? 'Without the stash: measured, while it only measured the same calls.'
    : 'Without the stash: estimated, from the calls that left and those that were saved.'
}

interface Tile {
  readonly name: string
  readonly value: string
  readonly detail: string
}

function tilesOf({ totals }: Report): Tile[] {
  const { without, with: reused, saved } = totals
  if (!reused || !saved) return [{ name: 'Calls measured', value: countText(without.asked), detail: 'the stash only measured so far' }]
  return [
    { name: 'Calls asked', value: countText(reused.asked), detail: `${countText(reused.upstream)} left for a provider` },
    {
      name: 'Calls saved',
      value: shareText(saved.calls, without.asked),
      detail: `${countText(saved.calls)} of ${countText(without.asked)}`,
    },
    { name: 'Money saved', value: money(saved.money), detail: `${money(reused.money)} instead of ${money(without.money)}` },
    {
      name: 'Failed requests',
      value: countText(reused.errored),
      detail: `${countText(without.errored)} without; ${countText(reused.withheld)} refused by Stashen, which saved nothing`,
    },
    {
      name: 'Older answers',
      value: countText(reused.stale),
      detail: reused.oldestStaleMs === null ? 'none was needed' : `the oldest ${ageText(reused.oldestStaleMs)} old`,
    },
    {
      name: 'Waiting time',
      value: reused.latencyMs ? latencyText(reused.latencyMs.median) : '?',
      detail: `median, ${without.latencyMs ? latencyText(without.latencyMs.median) : '?'} without${saved.timeMs && saved.timeMs > 0 ? `; ${ageText(saved.timeMs)} less in all` : ''}`,
    },
  ]
}

function tile({ name, value, detail }: Tile): string {
  return `<div class="tile"><span class="name">${escaped(name)}</span><strong>${escaped(value)}</strong><span>${escaped(detail)}</span></div>`
}

function endpointTable(report: Report): string {
  const heads = ['endpoint', 'asked', 'upstream', 'from store', 'changed', 'older', 'refused', 'evicted', 'money', 'saved', 'remark']
  const rows = report.providers.flatMap(({ provider, endpoints, fees }) => [
    ...endpoints.map((one) => {
      const { without, with: reused, saved } = one
      const refreshed = (reused?.changed ?? 0) + (reused?.unchanged ?? 0)
      return [
        `${provider}.${one.endpoint}`,
        countText(without.asked),
        countText(reused?.upstream ?? without.upstream),
        reused ? shareText(reused.fromStore, reused.asked) : '-',
        shareText(reused?.changed ?? 0, refreshed),
        reused ? shareText(reused.stale, reused.asked) : '-',
        countText(reused?.withheld ?? 0),
        countText(reused?.evicted ?? 0),
        money(reused?.money ?? without.money),
        saved ? money(saved.money) : '-',
        remarkOf(one),
      ]
    }),
    ...(fees.without.length > 0
      ? [[`${provider}, base fee`, '', '', '', '', '', '', '', money(fees.with ?? fees.without), '', 'with and without the stash']]
      : []),
  ])
  return table(heads, rows, 'Endpoints: what was asked, and what became of it with the stash')
}

function changeSection(report: Report): string {
  const changes = changeTable(report)
  return changes ? table(changes.heads, changes.rows, 'How often answers had changed, by their age') : ''
}

function labelSection(report: Report): string {
  const rows = labelTable(report, money)
  return rows ? table(['provider', ...labelHeads.slice(1)], rows, 'Whose calls they were, without fees') : ''
}

function keyTable({ byKey }: Report): string {
  if (!byKey) return ''
  const rows = byKey.list.map(({ provider, endpoint, key, saved, asked, upstream, errored }) => [
    `${provider}.${endpoint}`,
    ...[saved, asked, upstream, errored].map(countText),
    key,
  ])
  return table(['endpoint', 'saved', 'asked', 'upstream', 'failed', 'key'], rows, 'Keys that saved most calls, by the journal')
}

function periodTable({ providers }: Report): string {
  const rows = providers.flatMap(({ provider, periods, bill }) =>
    periods.map((period) => [
      ...[provider, periodDays(period), period.zone, money([period])],
      ...[bill && bill.until.getTime() === period.until.getTime() ? likelyText(bill) : '', period.partial ? 'covered in part' : ''],
    ]),
  )
  return rows.length === 0
    ? ''
    : table(['provider', 'days', 'zone', 'billed', 'likely in the end', 'coverage'], rows, 'Billing periods, by the calls made')
}

function likelyText({ currency, with: made, without }: BillForecast): string {
  const { likely } = made ?? without ?? { likely: '0' }
  return money([{ currency, amount: likely }])
}

function budgetTable({ providers }: Report): string {
  const rows = providers.flatMap(({ provider, budgets }) => budgets.map((one) => [provider, budgetText(one)]))
  return rows.length === 0 ? '' : table(['provider', 'spent as of the last call'], rows, 'Budgets')
}

const css = `
:root{--ink:#1d2430;--soft:#5b6472;--line:#d9dde3;--ground:#fff;--tile:#f4f6f8}
@media (prefers-color-scheme:dark){:root{--ink:#e8ebf0;--soft:#a2abb8;--line:#3a424e;--ground:#14181e;--tile:#1e242c}}
*{box-sizing:border-box}
body{margin:0;background:var(--ground);color:var(--ink);font:15px/1.45 system-ui,sans-serif}
main{max-width:1200px;margin:0 auto;padding:24px}
h1{margin:0;font-size:26px}.span{margin:4px 0 20px;color:var(--soft)}
.tiles{display:grid;grid-template-columns:repeat(auto-fit,minmax(150px,1fr));gap:12px;margin-bottom:24px}
.tile{background:var(--tile);border:1px solid var(--line);border-radius:8px;padding:12px 14px;display:flex;flex-direction:column}
.tile strong{font-size:20px;white-space:nowrap}.tile span{color:var(--soft);font-size:13px}.tile .name{color:var(--ink)}
.charts{display:grid;grid-template-columns:repeat(auto-fit,minmax(min(520px,100%),1fr));gap:20px}
figure{margin:0;min-width:0;break-inside:avoid}figcaption{font-weight:600;margin-bottom:4px}
figure svg{width:100%;height:auto;display:block}figure svg text{fill:var(--ink)}
.notes{margin-top:20px;color:var(--soft)}.notes ul{margin:0;padding-left:20px}.notes li{overflow-wrap:anywhere}
.words{margin:2px 0 0;color:var(--soft);font-size:13px}
details{font-size:13px;color:var(--soft)}details div.table{margin-top:6px;max-height:320px;overflow:auto}summary{cursor:pointer}
div.table{overflow-x:auto;margin-top:28px}
table{border-collapse:collapse;width:100%;font-size:14px;font-variant-numeric:tabular-nums}
caption{text-align:left;font-weight:600;padding-bottom:6px}
th,td{padding:5px 10px;border-bottom:1px solid var(--line);text-align:right;white-space:nowrap}
th:first-child{text-align:left;padding-left:0}.worded td:last-child{text-align:left;white-space:normal;overflow-wrap:anywhere;min-width:150px;color:var(--soft)}
thead th{color:var(--soft);font-weight:500}.worded thead th:last-child{text-align:left}tbody th{font-weight:500}
@media print{:root{--ink:#000;--soft:#444;--line:#bbb;--ground:#fff;--tile:#fff}main{padding:0;max-width:none}tr{break-inside:avoid}}
`
