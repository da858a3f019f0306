/** Lets a bounded number through at once; the others wait for their turn, in their order. */
export class Gate {
  private open: number;
  private readonly waiting: (() => void)[] = [];

  constructor(most: number) {
    this.open = most;
  }

  async run<T>(work: () => Promise<T>): Promise<T> {
    if (this.open > 0) this.open -= 1;
    else await new Promise<void>((resolve) => this.waiting.push(resolve));
    try {
      return await work();
    } finally {
      const next = this.waiting.shift();
      if (next) next();
      else this.open += 1;
    }
  }
}
