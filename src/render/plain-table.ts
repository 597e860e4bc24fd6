import Table from 'cli-table3'

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

/** A table of text without lines, of any number of rows; the columns are as wide as what is longest in them. */
export function longTable(heads: readonly string[], rows: readonly (readonly string[])[], dim: (text: string) => string): string {
  const widths = heads.map((head, i) => rows.reduce((width, row) => Math.max(width, row[i]?.length ?? 0), head.length) + 2)
  const parts: string[] = []
  for (let from = 0; from === 0 || from < rows.length; from += rowsAtOnce) {
    const table = new Table({
      head: from === 0 ? heads.map(dim) : [],
      colWidths: widths,
      style: { head: [], border: [], compact: true, 'padding-left': 0, 'padding-right': 2 },
      chars: noLines,
    })
    table.push(...rows.slice(from, from + rowsAtOnce).map((row) => [...row]))
    parts.push(table.toString().replace(/ +$/gm, ''))
  }
  return parts.join('\n')
}
