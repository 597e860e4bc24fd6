import { createWriteStream, existsSync, readFileSync } from 'node:fs'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Command } from 'commander'
import type { StashConfig } from '../config/stash-config.js'
import { compileSelector } from '../core/entries/selector.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { openStash } from '../open-stash.js'
import { exportHar } from '../queries/har-export.js'
import { importedText } from '../render/entries-text.js'
import { printable } from '../render/printable.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { addStoreOption, newStore, openToRead, type StoreChoice } from './open-store.js'
import { counted, withProgress } from './progress.js'
import { addSelectorOptions, type SelectorOptions, selectorOf } from './selector-options.js'

/** `stashen export`. */
export function addExport(command: Command, { stdout, stderr }: CliContext): void {
  addSelectorOptions(addStoreOption(command, 'the store to read'))
    .option('--output <file>', 'the file to write (default: standard output)')
    .action(async ({ output, ...options }: SelectorOptions & StoreChoice & { readonly output?: string }) => {
      const selector = selectorOf(options)
      if (output !== undefined && existsSync(output))
        throw new UsageError(`there is a file "${output}" already: name another with --output, or delete it`)
      const store = await openToRead(options)
      try {
        const pieces = exportHar(store, selector, Date.now())
        if (output === undefined) for await (const piece of pieces) stdout.write(piece)
        else
          await withProgress(stderr, 'exporting answers', async (progress) => {
            const of = compileSelector(selector).isAll ? (await store.entries.size()).entries : undefined
            await pipeline(Readable.from(counted(pieces, progress, of)), createWriteStream(output, { flags: 'wx' }))
          })
      } finally {
        await store.close()
      }
    })
}

interface ImportOptions extends StoreChoice {
  readonly json?: boolean
}

/** `stashen import FILE`. */
export function addImport(command: Command, { stdout, stderr }: CliContext): void {
  command.argument('<file>', 'the archive, or - for standard input')
  addStoreOption(command, 'the store to write to, created if missing', { hasConfig: true })
    .option('--config <file>', 'the configuration file; its rules are applied to archives from other tools')
    .option('--json', 'print the numbers as JSON')
    .action(async (file: string, { store, config: named, json }: ImportOptions) => {
      if (file !== '-' && !existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing archive`)
      const har = readFileSync(file === '-' ? 0 : file, 'utf8')
      const isRuled = named !== undefined || store === undefined
      const choice = { store, config: named }
      const storing = await newStore(choice)
      const config: StashConfig = isRuled ? (await configOf(named)).config : {}
      const warn = (message: string) => stderr.write(`stashen: ${printable(message)}\n`)
      const stash = await openStash({ ...config, store: storing, warn })
      try {
        const imported = await withProgress(stderr, 'importing answers', ({ at }) =>
          stash.import(har, { onProgress: ({ done, of }) => at(done, of) }),
        )
        stdout.write(json ? `${JSON.stringify(imported)}\n` : importedText(imported, isRuled))
      } finally {
        await stash.close()
      }
    })
}
