import { isAddress, storeForm } from '../config/store-name.js'
import { UsageError } from '../core/errors/setup-errors.js'
import type { Store } from '../core/ports/store.js'
import type { EncryptionKey } from '../stores/packed/options.js'
import { packedStore } from '../stores/packed/store.js'
import { sqliteStore } from '../stores/sqlite/store.js'

/** The environment variable that has the keys of stores that are encrypted, and what it looks like. */
const keysVariable = 'STASHEN_ENCRYPTION_KEYS'
const keysForm = 'give ID:SECRET, or several with commas between, the one that encrypts first; each secret 32 bytes in Base64'

/**
 * The store of a name, not opened: its answers can be read also where they are compressed, and where they are encrypted with a key that the environment has. Throws
 * `UsageError` where it names none.
 */
export async function namedStore(named: string, { readOnly = false } = {}): Promise<Store> {
  if (!isAddress(named)) return unpacked(sqliteStore(named, { readOnly }))
  if (!/^rediss?:/i.test(named))
    throw new UsageError(`there are no stores at "${named.slice(0, named.indexOf(':'))}:" addresses: name ${storeForm}`)
  const { redisStore } = await import('../stores/redis/store.js')
  return unpacked(redisStore({ url: named, readOnly }))
}

function unpacked(store: Store): Store {
  const text = process.env[keysVariable]
  return packedStore(text ? { store, encrypt: { keys: keysIn(text) } } : { store })
}

function keysIn(text: string): EncryptionKey[] {
  const keys = text.split(',').map((one) => {
    const [, id = '', secret = ''] = /^\s*([\w.-]{1,64}):([A-Za-z0-9+/=]{44})\s*$/.exec(one) ?? []
    return { id, secret }
  })
  if (keys.some(({ id }) => id === '')) throw new UsageError(`${keysVariable} holds something else than keys: ${keysForm}`)
  return keys
}
