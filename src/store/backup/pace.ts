/** What goes over the disk in a second at most, so that mail has its share; waits in its own thread. */
export class Pace {
  private readonly begun = performance.now();
  private octets = 0;

  /** 0 for no bound. */
  constructor(private readonly perSecond: number) {}

  spent(octets: number): void {
    if (this.perSecond === 0) return;
    this.octets += octets;
    const ahead = (this.octets / this.perSecond) * 1000 - (performance.now() - this.begun);
    if (ahead > 5) Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, Math.min(ahead, 1000));
  }
}
