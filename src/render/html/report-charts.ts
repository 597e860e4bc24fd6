import type { EChartsOption } from 'echarts'
import type { Figures, Report, TimeReport, Without } from '../../core/ledger/report-model.js'
import { countText, momentText } from '../format.js'
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
  const shown = times.map(({ without, with: reused }) => reused ?? without)
  const count = (name: keyof Figures) => shown.map((figures) => (name in figures ? Number((figures as Figures)[name] ?? 0) : 0))
  const bars: [string, number[], string][] = [
    ['saved', shown.map(savedAnswers), palette.fresh],
    ['older answers in failures', shown.map((figures) => ('stale' in figures ? figures.stale - figures.staleByChoice : 0)), palette.stale],
    ['upstream', shown.map((figures) => upstreamAnswers(figures)), palette.forwarded],
    ['failed', count('errored'), palette.failed],
  ]
  const total = bars.map(([name, values]) => `${countText(values.reduce((sum, value) => sum + value, 0))} ${name}`)
  return {
    title: 'Calls by how they were answered',
    words: `In all: ${total.join(', ')}.`,
    option: {
      xAxis: { type: 'category', data: labels },
      yAxis: { type: 'value', splitLine: faint },
      series: bars.map(([name, data, color]) => ({ type: 'bar', stack: 'calls', name, data, itemStyle: { color } })),
    },
  }
}

function upstreamAnswers(figures: Figures | Without): number {
  if (!('fromStore' in figures)) return figures.asked
  const { asked, stale, staleByChoice, errored, abandoned } = figures
  return asked - savedAnswers(figures) - (stale - staleByChoice) - errored - abandoned
}

/** Calls that took no upstream call of their own, as "saved" counts them. */
function savedAnswers(figures: Figures | Without): number {
  return 'fromStore' in figures ? figures.fromStore + figures.staleByChoice + figures.collapsed : 0
}

function upstream(times: readonly TimeReport[], labels: string[]): Figure {
  const without = running(times.map((time) => time.without.upstream))
  const withStash = running(times.map((time) => time.with?.upstream ?? 0))
  return {
    title: 'Calls that left for providers, running total',
    words: `In the end ${countText(without.at(-1) ?? 0)} without the stash, ${countText(withStash.at(-1) ?? 0)} with it.`,
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
      option: lines(labels, without, withStash),
    }
  })
}

function lines(labels: string[], without: number[], withStash: number[]): EChartsOption {
  return {
    legend: lineLegend,
    xAxis: { type: 'category', data: labels, boundaryGap: false },
    yAxis: { type: 'value', splitLine: faint },
    series: [
      { type: 'line', name: 'without', data: without, symbol: 'none', color: palette.without, lineStyle: { type: 'dashed', width: 2 } },
      {
        type: 'line',
        name: 'with',
        data: withStash,
        symbol: 'none',
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
