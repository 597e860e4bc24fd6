import Table from 'cli-table3'
import stringWidth from 'string-width'

/** A table without lines. */
export const noLines = Object.fromEntries(
  [
    'top',
    'top-mid',
    'top-left',
    'top-right',
    'bottom',
    'bottom-mid',
    'bottom-left',
    'bottom-right',
    'left',
    'left-mid',
    'mid',
    'mid-mid',
    'right',
    'right-mid',
    'middle',
  ].map((part) => [part, '']),
)

/** Rows that are laid out together: the library takes time by the square of them. */
const rowsAtOnce = 100

/** A row of cells, or a line that stands alone across the columns. */
export type TableRow = readonly string[] | string

/** A table of text without lines, of any number of rows; the columns are as wide as what is longest in them. */
export function textTable(
  head: readonly string[],
  rows: readonly TableRow[],
  { dim, aligns = [] }: { readonly dim: (text: string) => string; readonly aligns?: readonly ('left' | 'right')[] },
): string {
  const widths = head.map((name) => stringWidth(name))
  for (const row of rows)
    if (typeof row !== 'string') for (const [i, cell] of row.entries()) widths[i] = Math.max(widths[i] ?? 0, stringWidth(cell))
  const laidOut = (some: readonly (readonly string[])[]) => {
    const table = new Table({
      ...{ colWidths: widths.map((width) => width + 2), colAligns: widths.map((_, i) => aligns[i] ?? 'left') },
      style: { head: [], border: [], compact: true, 'padding-left': 0, 'padding-right': 2 },
      chars: noLines,
    })
    table.push(...some.map((row) => [...row]))
    return table.toString().replace(/ +$/gm, '')
  }
  const parts = [laidOut([head.map(dim)])]
  let some: (readonly string[])[] = []
  const flush = () => {
    if (some.length > 0) parts.push(laidOut(some))
    some = []
  }
  for (const row of rows) {
    if (typeof row === 'string' || some.length === rowsAtOnce) flush()
    if (typeof row === 'string') parts.push(row)
    else some.push(row)
  }
  flush()
  return parts.join('\n')
}
