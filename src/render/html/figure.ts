import type { EChartsOption } from 'echarts'

/** A chart, with what it says in words for those who do not see it. */
export interface Figure {
  readonly title: string
  readonly words: string
  /** The same as a table: the names of its columns, and its rows. */
  readonly data: { readonly heads: readonly string[]; readonly rows: readonly (readonly string[])[] }
  readonly option: EChartsOption
}
