/** What plays the demo day into a store. */
export interface Demo {
  readonly zone: string
  /** Names of the providers that the demo's store holds. */
  readonly providers: readonly string[]
  /** Makes one call of the day in real time, bare and from store. */
  sameCall(): Promise<{ readonly url: string; readonly forwardedMs: number; readonly storedMs: number }>
  run(setting: { store: string; file: string; seed: number; onStart(calls: number): void; onCalls(calls: number): void }): Promise<unknown>
}

/** What the command line runs with. */
export interface CliContext {
  readonly stdout: { write(text: string): unknown; readonly columns?: number }
  readonly stderr: NodeJS.WriteStream
  readonly version: string
  /** Loads what plays the demo day. */
  readonly demo: () => Promise<Demo>
  /** Takes the exit code of a command that has one of its own. */
  exitWith(code: number): void
}
