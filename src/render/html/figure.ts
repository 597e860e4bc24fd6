import type { EChartsOption } from 'echarts'

/** A chart, with what it says in words for those who do not see it. */
export interface Figure {
  readonly title: string
  readonly words: string
  readonly option: EChartsOption
}
