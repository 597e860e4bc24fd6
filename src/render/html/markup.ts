/** Text as it stands in HTML, also within the quotes of an attribute. */
export function escaped(text: string): string {
  return text.replace(/[&<>"']/g, (character) => `&#${character.charCodeAt(0)};`)
}

/**
 * A table, which scrolls where the page is too narrow for it; the first cell of each row is its head. All but the first column stand to the right, and the
 * last does too where it has figures and no words.
 */
export function table(heads: readonly string[], rows: readonly (readonly string[])[], caption: string): string {
  const head = heads.map((cell) => `<th scope="col">${escaped(cell)}</th>`).join('')
  const body = rows.map((cells) => {
    const [first = '', ...rest] = cells
    return `<tr><th scope="row">${escaped(first)}</th>${rest.map((cell) => `<td>${escaped(cell)}</td>`).join('')}</tr>`
  })
  const inside = `<caption>${escaped(caption)}</caption><thead><tr>${head}</tr></thead><tbody>${body.join('')}</tbody>`
  const last = rows.map((cells) => cells.at(-1) ?? '').filter((cell) => cell !== '')
  const kind = last.some((cell) => !/^[<>]?[\d-]/.test(cell)) ? ' class="worded"' : ''
  return `<div class="table" role="region" tabindex="0" aria-label="${escaped(caption)}"><table${kind}>${inside}</table></div>`
}
