import { createWriteStream, existsSync, readFileSync } from 'node:fs'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Command } from 'commander'
import type { StashConfig } from '../config/stash-config.js'
import { UsageError } from '../core/errors/setup-errors.js'
import { openStash } from '../open-stash.js'
import { exportHar } from '../queries/har-export.js'
import { importedText } from '../render/entries-text.js'
import { printable } from '../render/printable.js'
import type { CliContext } from './cli-context.js'
import { configOf } from './config-file.js'
import { newStore, openToRead, storeHelp } from './open-store.js'
import { addSelectorOptions, type SelectorOptions, selectorOf } from './selector-options.js'

/** `stashen export`. */
export function addExport(program: Command, { stdout }: CliContext): void {
  const command = program
    .command('export')
    .description('write stored answers as an HTTP Archive (HAR 1.2), without credentials')
    .requiredOption('--store <store>', `the store to read: ${storeHelp}`)
  addSelectorOptions(command)
    .option('--output <file>', 'the file to write (default: standard output)')
    .action(async ({ store: named, output, ...options }: SelectorOptions & { readonly store: string; readonly output?: string }) => {
      const selector = selectorOf(options)
      if (output !== undefined && existsSync(output))
        throw new UsageError(`there is a file "${output}" already: name another with --output, or delete it`)
      const store = await openToRead(named)
      try {
        const pieces = exportHar(store, selector, Date.now())
        if (output !== undefined) await pipeline(Readable.from(pieces), createWriteStream(output, { flags: 'wx' }))
        else for await (const piece of pieces) stdout.write(piece)
      } finally {
        await store.close()
      }
    })
}

interface ImportOptions {
  readonly store: string
  readonly config?: string
  readonly json?: boolean
}

/** `stashen import FILE`. */
export function addImport(program: Command, { stdout, stderr }: CliContext): void {
  program
    .command('import')
    .description('store the answers of an HTTP Archive (HAR 1.2), of "stashen export" or a browser')
    .argument('<file>', 'the archive, or - for standard input')
    .requiredOption('--store <store>', `the store to write to, which is made where there is none: ${storeHelp}`)
    .option('--config <file>', 'the configuration file, whose rules archives of others are stored by')
    .option('--json', 'print the numbers as JSON')
    .action(async (file: string, { store, config: named, json }: ImportOptions) => {
      if (file !== '-' && !existsSync(file)) throw new UsageError(`there is no file "${file}": name an existing archive`)
      const har = readFileSync(file === '-' ? 0 : file, 'utf8')
      const config: StashConfig = named === undefined ? {} : (await configOf(named)).config
      const warn = (message: string) => stderr.write(`stashen: ${printable(message)}\n`)
      const stash = await openStash({ ...config, store: await newStore(store), warn })
      try {
        const imported = await stash.import(har)
        stdout.write(json ? `${JSON.stringify(imported)}\n` : importedText(imported, named !== undefined))
      } finally {
        await stash.close()
      }
    })
}
