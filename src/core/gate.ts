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

/**
 * Lets work through by its weight: as much at once as fits below the most, in the order in which it came; a piece that is heavier than the most
 * goes alone.
 */
export class WeightGate {
  private under = 0;
  private readonly waiting: { weight: number; go: () => void }[] = [];

  constructor(private readonly most: number) {}

  async run<T>(weight: number, work: () => Promise<T>): Promise<T> {
    if (this.waiting.length > 0 || (this.under > 0 && this.under + weight > this.most))
      await new Promise<void>((resolve) => this.waiting.push({ weight, go: resolve }));
    else this.under += weight;
    try {
      return await work();
    } finally {
      this.under -= weight;
      for (let next = this.waiting[0]; next && (this.under === 0 || this.under + next.weight <= this.most); next = this.waiting[0]) {
        this.waiting.shift();
        this.under += next.weight;
        next.go();
      }
    }
  }
}

/** Lets work through one piece an owner, and all together by weight: who has much to do keeps nobody else waiting for more than one piece of it. */
export class OwnersGate {
  private readonly owners = new Map<number, { gate: Gate; users: number }>();
  private readonly all: WeightGate;

  constructor(most: number) {
    this.all = new WeightGate(most);
  }

  async run<T>(owner: number, weight: number, work: () => Promise<T>): Promise<T> {
    const own = this.owners.get(owner) ?? { gate: new Gate(1), users: 0 };
    this.owners.set(owner, own);
    own.users += 1;
    try {
      return await own.gate.run(() => this.all.run(weight, work));
    } finally {
      own.users -= 1;
      if (own.users === 0) this.owners.delete(owner);
    }
  }
}
