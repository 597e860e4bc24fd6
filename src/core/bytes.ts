/** Pieces in their order, as one. */
export function joinedBytes(pieces: readonly Uint8Array[]): Uint8Array<ArrayBuffer> {
  const bytes = new Uint8Array(pieces.reduce((sum, { byteLength }) => sum + byteLength, 0))
  let at = 0
  for (const piece of pieces) {
    bytes.set(piece, at)
    at += piece.byteLength
  }
  return bytes
}
