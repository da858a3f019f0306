import type { OctetAccount } from './octet-budget.ts';

const FIRST = 4096;

/** Octets of a message as they come, in one buffer that doubles; what it may measure is asked for before it grows. */
export class GrowingText {
  private kept: Buffer = Buffer.alloc(0);
  private length = 0;

  constructor(
    private readonly most: number,
    private readonly account: OctetAccount,
  ) {}

  get content(): Buffer {
    return this.kept.subarray(0, this.length);
  }

  get octets(): number {
    return this.length;
  }

  /** Whether one more octet was kept; else why not. */
  push(octet: number): 'kept' | 'too-big' | 'no-space' {
    if (this.length === this.kept.length) {
      const room = this.grow(1);
      if (room !== 'kept') return room;
    }
    this.kept[this.length] = octet;
    this.length += 1;
    return 'kept';
  }

  append(octets: Buffer): 'kept' | 'too-big' | 'no-space' {
    if (this.length + octets.length > this.kept.length) {
      const room = this.grow(octets.length);
      if (room !== 'kept') return room;
    }
    octets.copy(this.kept, this.length);
    this.length += octets.length;
    return 'kept';
  }

  /** Lets go of everything. */
  clear(): void {
    this.kept = Buffer.alloc(0);
    this.length = 0;
    this.account.resize(0);
  }

  private grow(more: number): 'kept' | 'too-big' | 'no-space' {
    const wanted = this.length + more;
    if (wanted > this.most) return 'too-big';
    const capacity = Math.min(this.most, Math.max(FIRST, this.kept.length * 2, wanted));
    if (!this.account.resize(capacity)) return 'no-space';
    const larger = Buffer.allocUnsafeSlow(capacity);
    this.kept.copy(larger, 0, 0, this.length);
    this.kept = larger;
    return 'kept';
  }
}
