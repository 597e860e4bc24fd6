/** How many keys that were evicted while fresh a store remembers: with 100 bytes each they take a twentieth of its room; never fewer than 1,000. */
export function rememberedKeys(maxBytes: number): number {
  return Math.max(1_000, Math.floor(maxBytes / 2_000))
}
