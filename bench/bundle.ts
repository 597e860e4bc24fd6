import { mkdirSync, mkdtempSync, realpathSync, rmSync, symlinkSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { basename, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { gzipSync } from 'node:zlib'
import * as esbuild from 'esbuild'
import * as vite from 'vite'
import type { Figure } from './figure.js'

const page = `
import { memoryStore, openStash } from 'stashen'

const stash = await openStash({
  store: memoryStore(),
  providers: {
    ebbline: {
      baseUrl: 'https://tides.ebbline.example/v2',
      endpoints: {
        tides: { request: 'GET /tides/{day}', freshFor: '1 day' },
        stations: { request: 'GET /stations', freshFor: '1 hour', staleIfError: '1 day' },
      },
    },
  },
})
console.log(await (await stash.fetch('https://tides.ebbline.example/v2/stations')).json())
`

/** A piece of a bundle: its size as it is sent, gzip, and the pieces that it loads with itself, and later. */
interface Piece {
  readonly name: string
  readonly bytes: number
  readonly loads: readonly string[]
  readonly isEntry: boolean
  /** The module that it was made for, where it is loaded later. */
  readonly of: string | undefined
}

/** What a page downloads, kilobytes of gzip, to import a stash with a memory store and two endpoints, and until that is open. */
export async function bundleFigures(): Promise<Figure[]> {
  const folder = realpathSync(mkdtempSync(join(tmpdir(), 'stashen-bundle-')))
  try {
    mkdirSync(join(folder, 'node_modules'))
    symlinkSync(fileURLToPath(new URL('../..', import.meta.url)), join(folder, 'node_modules', 'stashen'))
    writeFileSync(join(folder, 'page.js'), page)
    const bundlers = [['esbuild', await byEsbuild(folder)] as const, ['Vite', await byVite(folder)] as const]
    return bundlers.flatMap(([bundler, pieces]) => {
      const first = loadedWith(pieces, ({ isEntry }) => isEntry)
      const open = loadedWith(pieces, ({ isEntry, of }) => isEntry || of === 'build-stash.js')
      const kb = (loaded: readonly Piece[]) => loaded.reduce((sum, { bytes }) => sum + bytes, 0) / 1000
      return [
        { name: `${bundler}: a page that imports a stash`, value: kb(first), limit: 45, unit: 'kB' },
        { name: `${bundler}: the same page, until the stash is open`, value: kb(open), limit: 45, unit: 'kB' },
      ]
    })
  } finally {
    await esbuild.stop()
    rmSync(folder, { recursive: true })
  }
}

function loadedWith(pieces: readonly Piece[], isAsked: (piece: Piece) => boolean): Piece[] {
  const loaded = new Set<Piece>()
  const add = (piece: Piece) => {
    if (loaded.has(piece)) return
    loaded.add(piece)
    for (const name of piece.loads) for (const other of pieces) if (other.name === name) add(other)
  }
  for (const piece of pieces) if (isAsked(piece)) add(piece)
  return [...loaded]
}

async function byEsbuild(folder: string): Promise<Piece[]> {
  const built = await esbuild.build({
    ...{ entryPoints: [join(folder, 'page.js')], outdir: folder, absWorkingDir: folder, write: false, metafile: true },
    ...{ bundle: true, splitting: true, minify: true, format: 'esm', platform: 'browser', target: 'es2022', logLevel: 'error' },
  })
  const { outputs } = built.metafile
  return built.outputFiles.map(({ path, contents }) => {
    const { entryPoint, imports } = outputs[basename(path)] as (typeof outputs)[string]
    const loads = imports.filter(({ kind }) => kind === 'import-statement').map((one) => one.path)
    const isEntry = entryPoint === 'page.js'
    return { name: basename(path), bytes: gzipSync(contents).byteLength, loads, isEntry, of: entryPoint && basename(entryPoint) }
  })
}

async function byVite(folder: string): Promise<Piece[]> {
  const built = await vite.build({
    ...{ root: folder, configFile: false, logLevel: 'error' },
    build: { write: false, target: 'es2022', modulePreload: { polyfill: false }, rolldownOptions: { input: join(folder, 'page.js') } },
  })
  if (!('output' in built)) throw new TypeError('Vite gave no single bundle')
  return built.output.flatMap((piece): Piece[] => {
    if (piece.type !== 'chunk') return []
    const { fileName: name, code, imports: loads, isEntry, facadeModuleId } = piece
    return [{ name, bytes: gzipSync(code).byteLength, loads, isEntry, of: facadeModuleId ? basename(facadeModuleId) : undefined }]
  })
}
