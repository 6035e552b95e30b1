/** Whoever waits longer is told for what, in milliseconds. */
export const silentWait = 3_000;

/** Tells once of a wait, when it has lasted so long that people want to know. */
export function tellingOnce(tell: (text: string) => void): (waited: number, text: string) => void {
  let told = false;
  return (waited, text) => {
    if (waited > silentWait && !told) {
      told = true;
      tell(text);
    }
  };
}

/**
 * Does work until it succeeds. `afterFailure` waits where trying again may help, and throws where it
 * would not; it is told how often the work was tried.
 */
export async function retrying<T>(
  work: () => T | Promise<T>,
  afterFailure: (error: unknown, attempt: number) => Promise<void>,
): Promise<T> {
  for (let attempt = 1; ; attempt += 1) {
    try {
      return await work();
    } catch (error) {
      await afterFailure(error, attempt);
    }
  }
}
