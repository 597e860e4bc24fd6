import { appendFileSync } from 'node:fs'
import { join } from 'node:path'
import { threadId } from 'node:worker_threads'
import { onHttp2Connection } from './http2-connections.js'
import { type MeasureInto, measuredVariables, measureInto, type SeenLine } from './measure-into.js'
import { observeHttp } from './observe-http.js'
import { observeUndici } from './observe-undici.js'
import { passToChildren } from './pass-to-children.js'

// This module is loaded before a program, in each of its processes and threads, and writes down the calls that these make.

/** How long lines are gathered before they are written, milliseconds: what a process loses at the most that is killed. */
const gatheredMs = 50

const into = measureInto(process.env)
if (into) observeInto(into)

function observeInto({ folder, salt }: MeasureInto): void {
  const file = join(folder, `${process.pid}-${threadId}.jsonl`)
  let lines: SeenLine[] = []
  const write = () => {
    const text = lines.map((line) => `${JSON.stringify(line)}\n`).join('')
    lines = []
    try {
      if (text !== '') appendFileSync(file, text)
    } catch {
      // whoever measured is gone, and the program goes on
    }
  }
  const add = (line: SeenLine) => {
    lines.push(line)
    if (lines.length === 1) setTimeout(write, gatheredMs).unref()
  }
  const observing = { salt, seen: add }
  const children = passToChildren(`--import=${import.meta.url}`, measuredVariables(process.env))
  const stops = [children, observeHttp(observing), observeUndici(observing), onHttp2Connection((unseen) => add({ unseen }))]
  process.once('exit', () => {
    for (const stop of stops) stop()
    write()
  })
}
