/**
 * Whether a function may look at the object that it is called on as a method. A bound function and an arrow function cannot; of others the
 * source says it, where there is one.
 */
export function mayUseReceiver(fn: (...args: never[]) => unknown): boolean {
  const source = Function.prototype.toString.call(fn)
  if (/\{\s*\[native code\]\s*\}\s*$/.test(source)) return !fn.name.startsWith('bound ')
  if (/^(async\b\s*)?(\(|[\p{ID_Start}$_][\p{ID_Continue}$]*\s*=>)/u.test(source)) return false
  return /\b(this|super|eval)\b/.test(source.replace(quoted, ''))
}

/** Strings and comments, which say nothing of what a function does; templates may. */
const quoted = /"(?:\\.|[^"\\\n])*"|'(?:\\.|[^'\\\n])*'|\/\*[\s\S]*?\*\/|\/\/[^\n]*/g
