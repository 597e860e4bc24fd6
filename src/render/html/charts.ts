import type { EChartsOption } from 'echarts'
import { MissingPackageError } from '../../core/errors/setup-errors.js'

/** Colours that stand out on light and on dark ground alike, and from each other without colour sight (Okabe and Ito). */
export const palette = {
  fresh: '#009e73',
  stale: '#e69f00',
  forwarded: '#0072b2',
  failed: '#d55e00',
  refused: '#cc79a7',
  without: '#8a8f98',
}

const legend = { top: 0, left: 0, itemWidth: 14, itemHeight: 10, itemGap: 28, textStyle: { fontSize: 13 } }

/** A legend that shows how lines are drawn. */
export const lineLegend = { ...legend, itemWidth: 30, itemGap: 20, itemStyle: { opacity: 0 } }

/** Grid lines that do not shout, on light and dark ground. */
export const faint = { lineStyle: { color: '#8886' } }

const size = { width: 760, height: 260 }

/** Draws a chart as SVG; text takes the colour of the page. */
export type Draw = (option: EChartsOption) => string

/** Loads what draws. Throws `MissingPackageError` where the package `echarts` is not installed. */
export async function drawing(): Promise<Draw> {
  const { init } = await load()
  let drawn = 0
  return (option) => {
    const chart = init(null, null, { renderer: 'svg', ssr: true, ...size })
    try {
      chart.setOption({
        animation: false,
        textStyle: { fontFamily: 'sans-serif' },
        grid: { left: 56, right: 16, top: 40, bottom: 28 },
        legend,
        ...option,
      })
      drawn++
      return withOwnNames(chart.renderToSVGString(), drawn)
    } finally {
      chart.dispose()
    }
  }
}

/** Names within a drawing would depend on what was drawn before in the process, and clash on one page. */
function withOwnNames(svg: string, n: number): string {
  const names = [...new Set(svg.match(/zr\d+-[\w-]+/g) ?? [])]
  return names.reduce((text, name, i) => text.replaceAll(new RegExp(`${name}(?![\\w-])`, 'g'), `chart${n}-${i}`), svg)
}

async function load() {
  try {
    return await import('echarts')
  } catch (cause) {
    throw new MissingPackageError('echarts', 'a report as HTML', { cause })
  }
}
