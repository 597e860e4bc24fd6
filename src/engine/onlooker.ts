/** Tells progress to whoever looks on; what fails there ends nothing. */
export function toldTo<P>(onProgress: ((progress: P) => void) | undefined): (progress: P) => void {
  return (progress) => {
    try {
      onProgress?.(progress)
    } catch {
      // it is none of the work's
    }
  }
}
