import { calibration } from './forecast.js'

const seeds = 300
const columns = [24, 12, 8, 24, 14]

/** Prints how often the ranges of forecasts hold, for made-up traffic of each kind. */
console.log(`of ${seeds} forecasts in each line: how many of a hundred ranges held what came, and how wide they are in the mean\n`)
print('traffic', 'known for', 'quota', 'held', 'mean width')
for (const { kind, days, per, ranged, held, width } of calibration(seeds)) {
  const known = `${days} ${days === 1 ? 'day' : 'days'}`
  if (ranged === 0) print(kind, known, `a ${per}`, 'too few data for a range', '')
  else print(kind, known, `a ${per}`, `${held.toFixed(1)}%`, `${width.toFixed(0)}% of likely`)
}

function print(...cells: string[]): void {
  console.log(
    cells
      .map((cell, i) => cell.padEnd(columns[i] ?? 0))
      .join('  ')
      .trimEnd(),
  )
}
