/** What is to be done before a process or a page ends. */
export interface Leaving {
  /** Writes what waits to be written. */
  readonly write: () => void
  /** The same, where nothing can be waited for any more. `isOver`: whether nothing of it goes on afterwards. */
  readonly leave: (isOver: boolean) => void
}

/** Those who want to be told. */
const open = new Set<Leaving>()
let stopListening: (() => void) | undefined

/** Has something be told before the process or the page ends; returns an unsubscribe function. */
export function beforeLeaving(leaving: Leaving): () => void {
  open.add(leaving)
  stopListening ??= listen()
  return () => {
    open.delete(leaving)
    if (open.size > 0) return
    stopListening?.()
    stopListening = undefined
  }
}

interface Ends {
  on?(name: string, told: () => void): void
  off?(name: string, told: () => void): void
  readonly versions?: { readonly node?: string }
}

interface Page {
  readonly visibilityState: string
  addEventListener(name: string, told: () => void): void
  removeEventListener(name: string, told: () => void): void
}

/** One listener for all: a process warns of many. */
function listen(): () => void {
  const { process, document, addEventListener, removeEventListener } = globalThis as {
    process?: Ends
    document?: Page
    addEventListener?(name: string, told: (event: { readonly persisted?: boolean }) => void): void
    removeEventListener?(name: string, told: (event: { readonly persisted?: boolean }) => void): void
  }
  if (process?.versions?.node !== undefined && process.on && process.off) {
    const outOfWork = () => each((one) => one.write())
    const exit = () => each((one) => one.leave(true))
    let isTold = false
    const once = () => {
      if (!isTold) outOfWork() // what it begins may fail, and is not started again forever
      isTold = true
    }
    process.on('beforeExit', once)
    process.on('exit', exit)
    return () => {
      process.off?.('beforeExit', once)
      process.off?.('exit', exit)
    }
  }
  if (!document || !addEventListener || !removeEventListener) return () => {}
  const hidden = () => {
    if (document.visibilityState === 'hidden') each((one) => one.write())
  }
  const gone = ({ persisted = false }: { readonly persisted?: boolean }) => each((one) => one.leave(!persisted))
  document.addEventListener('visibilitychange', hidden)
  addEventListener('pagehide', gone)
  return () => {
    document.removeEventListener('visibilitychange', hidden)
    removeEventListener('pagehide', gone)
  }
}

/** Whatever one of them throws, the others are told. */
function each(tell: (one: Leaving) => void): void {
  for (const one of [...open]) {
    try {
      tell(one)
    } catch {
      // it is too late to say so
    }
  }
}
