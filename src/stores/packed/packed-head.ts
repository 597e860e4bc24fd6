/** How the head of an entry begins whose body is compressed, or which is encrypted; no other head does. */
export const packedHeads = { json: '{"packed":', text: 'packed ', sealed: 'sealed ' } as const

/** Whether an entry cannot be read as it is. */
export function isPacked(head: string): boolean {
  return head.startsWith(packedHeads.json) || head.startsWith(packedHeads.text) || head.startsWith(packedHeads.sealed)
}
