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
