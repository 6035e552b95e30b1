/**
 * Waits for all work, also after some of it has failed, and then throws the first failure: nothing goes on behind an error.
 */
export async function settleAll<T>(work: readonly Promise<T>[]): Promise<T[]> {
  const settled = await Promise.allSettled(work);
  return settled.map((each) => {
    if (each.status === 'rejected') {
      throw each.reason;
    }
    return each.value;
  });
}

/** What two promises come to, when both have ended. Throws what the first of them that failed did. */
export async function settleBoth<A, B>(one: Promise<A>, other: Promise<B>): Promise<[A, B]> {
  await Promise.allSettled([one, other]);
  return [await one, await other];
}
