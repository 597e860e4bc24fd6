/**
 * Characters that a terminal or a page obeys in place of showing them: control characters, escape sequences, those that change the direction of
 * text, have no width or end a line.
 */
const obeyed = /[\p{Cc}\p{Cf}\p{Zl}\p{Zp}\p{Cs}]/gu

/** Text from elsewhere, with such characters written out: `\u{1b}`. */
function printableText(text: string): string {
  return text.replace(obeyed, (character) => `\\u{${character.codePointAt(0)?.toString(16)}}`)
}

/** Text of several lines. */
export function printableLines(text: string): string {
  return text.split('\n').map(printableText).join('\n')
}

/** A model that can be shown, whoever wrote the names in it. */
export function printable<T>(model: T): T {
  if (typeof model === 'string') return printableText(model) as T
  if (Array.isArray(model)) return model.map(printable) as T
  if (typeof model !== 'object' || model === null || Object.getPrototypeOf(model) !== Object.prototype) return model
  return Object.fromEntries(Object.entries(model).map(([name, value]) => [printableText(name), printable(value)])) as T
}

/** A model as JSON that means the same and can be shown. */
export function printableJson(model: unknown): string {
  return JSON.stringify(model, null, 2).replace(obeyed, (character) =>
    character === '\n'
      ? character
      : [...Array(character.length).keys()].map((i) => `\\u${character.charCodeAt(i).toString(16).padStart(4, '0')}`).join(''),
  )
}
