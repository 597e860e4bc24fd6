/** What a piece is of an answer that is shown to other processes while it arrives. */
export type ShownPiece =
  | { readonly is: 'head'; readonly head: string }
  | { readonly is: 'bytes'; readonly bytes: Uint8Array }
  /** `end`: it is complete. `broken`: it broke off. `lost`: nothing more of it is shown, though there may be. */
  | { readonly is: 'end' | 'broken' | 'lost' }

/** The first byte of a piece says what it is. */
const marks = ['head', 'bytes', 'end', 'broken', 'lost'] as const

export function writtenPiece(piece: ShownPiece): Uint8Array {
  const content = piece.is === 'head' ? new TextEncoder().encode(piece.head) : piece.is === 'bytes' ? piece.bytes : new Uint8Array()
  const written = new Uint8Array(1 + content.byteLength)
  written[0] = marks.indexOf(piece.is)
  written.set(content, 1)
  return written
}

/** What cannot be read is `lost`. */
export function pieceOf(written: Uint8Array): ShownPiece {
  const is = marks[written[0] ?? -1] ?? 'lost'
  const content = written.subarray(1)
  if (is === 'head') return { is, head: new TextDecoder().decode(content) }
  return is === 'bytes' ? { is, bytes: content } : { is }
}
