/** So many at once, in the order in which they ask. Whoever has a turn may give it back for a while, unlike a task of a queue. */
export class Turns {
  private readonly asking: (() => void)[] = [];

  /** @param free How many may go on at once. */
  constructor(private free: number) {}

  /** Waits for a turn. */
  async take(): Promise<void> {
    if (this.free > 0) {
      this.free -= 1;
    } else {
      await new Promise<void>((resolve) => this.asking.push(resolve));
    }
  }

  /** Gives a turn back: the one who has waited longest has it. */
  give(): void {
    const next = this.asking.shift();
    if (next === undefined) {
      this.free += 1;
    } else {
      next();
    }
  }
}
