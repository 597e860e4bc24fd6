/** How much is tried of what is random, long or done again and again: 1 with `npm test`, 10 with `npm run test:long`; `STASHEN_SCALE=` says any other. */
const scale = Number(process.env.STASHEN_SCALE ?? 1)

/** Whether there is time for what takes long. */
export const isLong = scale > 1

/** `few` with `npm test`; otherwise `each` as many times as the scale says. */
export function scaled(few: number, each = few): number {
  return isLong ? Math.max(1, Math.round(each * scale)) : few
}

/** What is random goes by it: `SEED=` has the same again. */
export const seed = Number(process.env.SEED ?? Date.now() % 2 ** 31)
