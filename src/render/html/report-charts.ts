import type { EChartsOption } from 'echarts'
import type { Figures, Report, TimeReport, Without } from '../../core/ledger/report-model.js'
import { countText, latencyText, momentText } from '../format.js'
import { faint, lineLegend, palette } from './charts.js'
import type { Figure } from './figure.js'
import { quotaCharts } from './quota-charts.js'

/** The charts that a report has figures for. */
export function chartsOf(report: Report, zone: string): Figure[] {
  const times = report.times ?? []
  if (times.length === 0) return []
  const labels = times.map(({ from }) => label(from, zone, times.length))
  return [outcomes(times, labels), upstream(times, labels), ...money(times, labels), ...quotaCharts(report, zone), latency(report)]
}

function label(at: Date, zone: string, count: number): string {
  const text = momentText(at, zone)
  return count <= 48 ? text.slice(11) : text.slice(5, 10)
}

function outcomes(times: readonly TimeReport[], labels: string[]): Figure {
  const all = times.map(endings)
  const bars = (
    [
      ['saved', palette.fresh],
      ['older answers in failures', palette.stale],
      ['upstream', palette.forwarded],
      ['refused by Stashen', palette.refused],
      ['failed', palette.failed],
    ] as const
  ).map(([name, color]) => ({ name, color, values: all.map((one) => one[name]) }))
  const total = bars.map(({ name, values }) => `${countText(values.reduce((sum, value) => sum + value, 0))} ${name}`)
  return {
    title: 'Calls by how they were answered',
    words: `In all: ${total.join(', ')}.`,
    data: {
      heads: ['from', ...bars.map(({ name }) => name)],
      rows: labels.map((label, i) => [label, ...bars.map(({ values }) => countText(values[i] as number))]),
    },
    option: {
      xAxis: { type: 'category', data: labels },
      yAxis: { type: 'value', splitLine: faint },
      series: bars.map(({ name, values, color }) => ({ type: 'bar', stack: 'calls', name, data: values, itemStyle: { color } })),
    },
  }
}

/** How the calls of a time ended, each in one way; those that their callers left are in none. */
function endings({ without, with: reused, saved }: TimeReport) {
  const figures = reused ?? without
  if (!('fromStore' in figures))
    return { saved: 0, 'older answers in failures': 0, upstream: figures.asked, 'refused by Stashen': 0, failed: 0 }
  const older = figures.stale - figures.staleByChoice
  const refused = figures.withheld
  const failed = Math.max(0, figures.errored - refused)
  const savedCalls = saved?.calls ?? 0
  const upstream = Math.max(0, figures.asked - savedCalls - older - failed - refused - figures.abandoned)
  return { saved: savedCalls, 'older answers in failures': older, upstream, 'refused by Stashen': refused, failed }
}

function upstream(times: readonly TimeReport[], labels: string[]): Figure {
  const without = running(times.map((time) => time.without.upstream))
  const withStash = running(times.map((time) => time.with?.upstream ?? 0))
  return {
    title: 'Calls that left for providers, running total',
    words: `In the end ${countText(without.at(-1) ?? 0)} without the stash, ${countText(withStash.at(-1) ?? 0)} with it.`,
    data: twoSides(labels, without, withStash),
    option: lines(labels, without, withStash),
  }
}

function money(times: readonly TimeReport[], labels: string[]): Figure[] {
  const currencies = [...new Set(times.flatMap(({ without }) => without.money.map(({ currency }) => currency)))]
  return currencies.map((currency) => {
    const of = (figures: Figures | Without | null) => Number(figures?.money.find((one) => one.currency === currency)?.amount ?? 0)
    const without = running(times.map((time) => of(time.without)))
    const withStash = running(times.map((time) => of(time.with)))
    return {
      title: `Money in ${currency}, running total`,
      words: `In the end ${currency} ${without.at(-1)?.toFixed(2)} without the stash, ${withStash.at(-1)?.toFixed(2)} with it.`,
      data: twoSides(labels, without, withStash),
      option: lines(labels, without, withStash),
    }
  })
}

function twoSides(labels: readonly string[], without: readonly number[], withStash: readonly number[]): Figure['data'] {
  const text = new Intl.NumberFormat('en', { maximumFractionDigits: 6 })
  return {
    heads: ['from', 'without', 'with'],
    rows: labels.map((label, i) => [label, text.format(without[i] as number), text.format(withStash[i] as number)]),
  }
}

function lines(labels: string[], without: number[], withStash: number[]): EChartsOption {
  const isAlone = labels.length === 1 // a point, for there is no line
  const symbol = isAlone ? 'circle' : 'none'
  const symbolSize = 10
  return {
    legend: isAlone ? { ...lineLegend, itemStyle: { opacity: 1 } } : lineLegend,
    xAxis: { type: 'category', data: labels, boundaryGap: isAlone },
    yAxis: { type: 'value', splitLine: faint },
    series: [
      { type: 'line', name: 'without', data: without, symbol, symbolSize, color: palette.without, lineStyle: { type: 'dashed', width: 2 } },
      {
        type: 'line',
        name: 'with',
        data: withStash,
        symbol,
        symbolSize,
        color: palette.fresh,
        lineStyle: { width: 2.5 },
        areaStyle: { opacity: 0.15 },
      },
    ],
  }
}

function latency({ providers }: Report): Figure {
  const all = providers.flatMap(({ provider, endpoints }) => endpoints.map((one) => ({ name: `${provider}.${one.endpoint}`, ...one })))
  const p95 = (figures: Figures | Without | null) => figures?.latencyMs?.p95 ?? 0
  return {
    title: 'Waiting time of 95 in 100 calls, milliseconds',
    words: all.map((one) => `${one.name}: ${Math.round(p95(one.without))} without, ${Math.round(p95(one.with))} with`).join('; '),
    data: {
      heads: ['endpoint', 'without', 'with'],
      rows: all.map((one) => [one.name, latencyText(p95(one.without)), latencyText(p95(one.with))]),
    },
    option: {
      grid: { left: 150, right: 24, top: 40, bottom: 28 },
      xAxis: { type: 'value', splitLine: faint },
      yAxis: { type: 'category', inverse: true, data: all.map(({ name }) => name) },
      series: [
        { type: 'bar', name: 'without', data: all.map((one) => p95(one.without)), itemStyle: { color: palette.without } },
        { type: 'bar', name: 'with', data: all.map((one) => p95(one.with)), itemStyle: { color: palette.fresh } },
      ],
    },
  }
}

function running(values: readonly number[]): number[] {
  let sum = 0
  return values.map((value) => {
    sum += value
    return Math.round(sum * 1e6) / 1e6
  })
}
