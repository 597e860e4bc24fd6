// What tests run in a page or worker: the built library, with everything that it needs.
import * as stashen from 'stashen'
import { indexedDbStore } from 'stashen/indexeddb'
import { layeredStore } from 'stashen/layered'
import { packedStore } from 'stashen/packed'
import { storeContract } from 'stashen/testing'

// Uses of entries, which are written once a second, are written sooner.
const { setTimeout: timer } = globalThis
globalThis.setTimeout = (run, ms = 0, ...rest) => timer(run, ms === 1_000 ? 50 : ms, ...rest)

const stashes = new Map()

/** A stash of the lab, of a name; its upstream is `/upstream/...`, which the test's server answers. */
async function open(name = 'one', { near = false, store: options = {}, ...config } = {}) {
  const far = indexedDbStore({ name: 'lab', ...options })
  const warnings = []
  const stash = await stashen.openStash({
    store: near ? layeredStore({ far, nearFor: '1 hour' }) : far,
    fetch: (input, init) => fetch(input, { ...init, cache: 'no-store' }), // else the browser makes one request of two at once by itself
    warn: (message) => warnings.push(message),
    storeTimeout: '30 s', // a machine that others keep busy is no reason to go on without the store
    providers: {
      ebbline: {
        baseUrl: `${location.origin}/upstream`,
        endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour', staleIfError: '1 day', labels: ['tides {id}'] } },
      },
    },
    ...config,
  })
  stashes.set(name, { stash, warnings })
  return stash
}

/** Asks for a path; says how it was answered, and the body. */
async function ask(path, name = 'one') {
  const { stash } = stashes.get(name)
  const response = await stash.fetch(`${location.origin}/upstream${path}`)
  const body = await response.text()
  const { how, stored } = stash.outcomeOf(response)
  return { how, stored, body }
}

const decoder = new TextDecoder()
let reader

/** Asks for a path, and returns the first piece of what comes. */
async function begin(path) {
  const response = await stashes.get('one').stash.fetch(`${location.origin}/upstream${path}`)
  reader = response.body.getReader()
  return decoder.decode((await reader.read()).value)
}

/** The pieces that come after it. */
async function rest() {
  let text = ''
  for (let piece = await reader.read(); !piece.done; piece = await reader.read()) text += decoder.decode(piece.value)
  return text
}

/** Runs each case of the contract on a database of its own; returns what failed. */
async function contract(packing, many = 231) {
  const failures = []
  let count = 0
  const made = () => {
    const store = indexedDbStore({ name: `contract ${packing ? 'packed' : ''} ${count++}` })
    return packing ? packedStore({ store, ...packing }) : store
  }
  for (const { name, run } of storeContract(made, { digestsKeys: packing !== undefined, many })) {
    try {
      await run()
    } catch (error) {
      failures.push(`${name}: ${error.stack ?? error}`)
    }
  }
  return { count, failures }
}

globalThis.lab = { ...stashen, indexedDbStore, layeredStore, stashes, open, ask, begin, rest, contract }
