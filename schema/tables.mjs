// The tables of pages that follow the source: each stands between <!-- NAME --> and <!-- end of NAME -->.
import { readFileSync, writeFileSync } from 'node:fs'
import { reasons } from '../dist/src/core/decide/reasons.js'

const read = (path) => readFileSync(new URL(`../${path}`, import.meta.url), 'utf8')
const table = (head, rows) =>
  [head, head.map(() => '---'), ...rows].map((row) => `| ${row.map((cell) => cell.replaceAll('|', '\\|')).join(' | ')} |`).join('\n')
const words = (comment) =>
  comment
    .replace(/\s*\*\s+/g, ' ')
    .replace(/\s+/g, ' ')
    .trim()

/** What the members of a union of texts mean, by their comments; members below one comment share it. */
function unionOf(source, name) {
  const [, body = ''] = new RegExp(`export type ${name} =\\n([\\s\\S]*?)\\n\\n`).exec(source) ?? []
  let said = ''
  return [...body.matchAll(/\/\*\*([\s\S]*?)\*\/|\| '([\w-]+)'/g)].flatMap(([, comment, member]) => {
    if (comment !== undefined) said = words(comment)
    return member === undefined ? [] : [[`\`${member}\``, said]]
  })
}

/** The members of an interface, by their comments. */
function membersOf(source, name) {
  const [, body = ''] = new RegExp(`export interface ${name} \\{\\n([\\s\\S]*?)\\n\\}`).exec(source) ?? []
  return [...body.matchAll(/ {2}\/\*\*((?:(?!\*\/)[\s\S])*)\*\/\n {2}readonly '?([\w-]+)'?:/g)].map(([, comment, member]) => [
    `\`${member}\``,
    words(comment),
  ])
}

const tables = {
  reasons: table(
    ['reason', 'what it says'],
    Object.entries(reasons).map(([name, says]) => [`\`${name}\``, says]),
  ),
  'not stored': table(['why', 'what it says'], unionOf(read('src/core/decide/keep.ts'), 'NotKept')),
  events: table(['event', 'when'], membersOf(read('src/core/decide/events.ts'), 'StashEvents')),
}

export function writeTables() {
  for (const page of ['docs/troubleshooting.md', 'docs/events.md']) {
    let text = read(page)
    for (const [name, rows] of Object.entries(tables))
      text = text.replace(new RegExp(`(<!-- ${name} -->\\n)[\\s\\S]*?(<!-- end of ${name} -->)`), `$1\n${rows}\n\n$2`)
    writeFileSync(new URL(`../${page}`, import.meta.url), text)
  }
}
