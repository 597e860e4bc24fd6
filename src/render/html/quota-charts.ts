import type { EChartsOption, SeriesOption } from 'echarts'
import type { ProviderReport, QuotaUse, Report } from '../../core/ledger/report-model.js'
import type { QuotaForecast } from '../../core/limits/forecast.js'
import { countText, momentText } from '../format.js'
import { faint, lineLegend, palette } from './charts.js'
import type { Figure } from './figure.js'

/** How each quota was used in its period, what is forecast up to its reset, and both without the stash. */
export function quotaCharts({ providers }: Report, zone: string): Figure[] {
  return providers.flatMap((one) => (one.quota && one.quota.course.length > 0 ? [quotaChart(one, one.quota, zone)] : []))
}

function quotaChart({ provider }: ProviderReport, quota: QuotaUse, zone: string): Figure {
  const { limit, per, from, until, course, forecast } = quota
  const past = (side: 'with' | 'without') => [[from, 0], ...course.map((point) => [point.at, point[side]])]
  const next = (expectedStorage: QuotaForecast | null, of: 'likely' | 'low' | 'high', side: 'with' | 'without') =>
    expectedStorage ? [past(side).at(-1) as [string, number], ...expectedStorage.course.map((point) => [point.at, point[of]])] : []
  const line = (name: string, data: unknown[], color: string, type: 'solid' | 'dashed' | 'dotted', width = 2): SeriesOption => ({
    ...{ type: 'line', name, data: data as [string, number][], color, symbol: 'none' },
    lineStyle: { width, type, color },
  })
  return {
    title: `Quota of ${provider}: calls of ${countText(limit)} a ${per}`,
    words: wordsOf(quota),
    data: {
      heads: ['up to', 'without', 'with', 'forecast without', 'forecast with'],
      rows: [
        ...course.map((point) => [label(point.at.getTime(), zone, per), countText(point.without), countText(point.with), '', '']),
        ...[...((forecast.with ?? forecast.without)?.course.slice(-1) ?? [])].map(({ at }) => [
          label(at.getTime(), zone, per),
          '',
          '',
          countText(forecast.without?.usedAtReset.likely ?? null),
          countText(forecast.with?.usedAtReset.likely ?? null),
        ]),
      ],
    },
    option: {
      legend: lineLegend,
      grid: { left: 56, right: 24, top: 40, bottom: 28 },
      xAxis: {
        ...{ type: 'time', min: from, max: until, splitLine: { show: false } },
        axisLabel: { hideOverlap: true, formatter: (at: number) => label(at, zone, per) },
      },
      yAxis: { type: 'value', splitLine: faint },
      series: [
        line('with', past('with'), palette.fresh, 'solid', 2.5),
        line('forecast with', next(forecast.with, 'likely', 'with'), palette.fresh, 'dashed'),
        line('eight times in ten', next(forecast.with, 'high', 'with'), palette.fresh, 'dotted', 1),
        line('eight times in ten', next(forecast.with, 'low', 'with'), palette.fresh, 'dotted', 1),
        line('without', past('without'), palette.without, 'solid'),
        line('forecast without', next(forecast.without, 'likely', 'without'), palette.without, 'dashed'),
        line(
          'quota',
          [
            [from, limit],
            [until, limit],
          ],
          palette.failed,
          'solid',
          1.5,
        ),
      ].filter(({ data }) => isDrawn(data)),
    } as EChartsOption,
  }
}

/** Whether a line has more than one point: a range that is not known has none, and what is not forecast neither. */
function isDrawn(points: unknown): boolean {
  return (points as [unknown, number | null][]).filter(([, calls]) => calls !== null).length > 1
}

function wordsOf({ limit, used, course, forecast }: QuotaUse): string {
  const without = course.at(-1)?.without ?? used.measuring
  const now = `Used ${countText(used.reusing)} of ${countText(limit)} with the stash, ${countText(without)} without.`
  const expectedStorage = (side: 'with' | 'without') => {
    const range = forecast[side]?.usedAtReset
    if (!range) return undefined
    const around = range.low === null || range.high === null ? '' : ` (${countText(range.low)} to ${countText(range.high)})`
    return `${countText(range.likely)}${around} ${side}`
  }
  const both = [expectedStorage('with'), expectedStorage('without')].filter((words) => words !== undefined)
  return both.length === 0 ? now : `${now} By the reset likely ${both.join(', ')}.`
}

function label(at: number, zone: string, per: QuotaUse['per']): string {
  const text = momentText(new Date(at), zone)
  return per === 'day' ? text.slice(11) : text.slice(5, 10)
}
