import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

/** The code of a page that says `marker`, written where the package's own name leads to it. Returns the URL of the module. */
export function documentedModule(page: string, marker: string): string {
  const text = readFileSync(new URL(`../../../${page}`, import.meta.url), 'utf8')
  const code = [...text.matchAll(/```(?:js|ts)\n([\s\S]*?)```/g)].map(([, block = '']) => block).find((block) => block.includes(marker))
  if (code === undefined) throw new Error(`${page} has no code that says "${marker}"`)
  const folder = new URL('../../documented/', import.meta.url)
  mkdirSync(folder, { recursive: true })
  const file = new URL(`${page.replace(/\W+/g, '-')}-${process.pid}.mjs`, folder)
  writeFileSync(fileURLToPath(file), code)
  return file.href
}
