/** Spaces and the like that stand between thousands. */
const spaces = /[\s\u00a0\u202f'\u2019]/g

/** A number as people write it, as a decimal: thousands may be set apart; undefined where it is none, or could be another. */
export function decimalOf(text: string, decimal: 'point' | 'comma'): string | undefined {
  const [point, thousands] = decimal === 'point' ? ['.', ','] : [',', '.']
  const plain = text.trim().replace(spaces, '')
  const grouped = new RegExp(`^-?\\d{1,3}(\\${thousands}\\d{3})+(\\${point}\\d+)?$`)
  const ungrouped = new RegExp(`^-?\\d+(\\${point}\\d+)?$`)
  if (!grouped.test(plain) && !ungrouped.test(plain)) return undefined
  return plain.replaceAll(thousands, '').replace(point, '.')
}

/** Whether a decimal is a whole number of calls. */
export function isWholeNumber(decimal: string | undefined): boolean {
  return decimal !== undefined && /^\d+(\.0+)?$/.test(decimal) && Number.isSafeInteger(Number(decimal))
}
