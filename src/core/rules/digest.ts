import { sha256 } from '@noble/hashes/sha2.js'
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js'
import { Remembered } from '../remembered.js'

/** SHA-256 (FIPS 180-4) of bytes, or of a text's UTF-8, in hexadecimal. */
export function digestOf(data: Uint8Array | string): string {
  return bytesToHex(sha256(typeof data === 'string' ? utf8ToBytes(data) : data))
}

const digests = new Remembered<string>(64 * 1024)

/** As `digestOf`, of a text that may come again and again, such as the credentials of a caller. */
export function digestAgain(text: string): string {
  let digest = digests.get(text)
  if (digest === undefined) {
    digest = digestOf(text)
    digests.set(text, digest, [digest])
  }
  return digest
}
