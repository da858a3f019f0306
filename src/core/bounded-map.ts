/** A map that holds so many entries at most: a new one takes the place of the oldest. */
export class BoundedMap<Key, Value> extends Map<Key, Value> {
  constructor(private readonly most: number) {
    super();
  }

  override set(key: Key, value: Value): this {
    if (this.size >= this.most && !this.has(key)) this.delete(this.keys().next().value as Key);
    return super.set(key, value);
  }

  /** Sets it as the newest. */
  renew(key: Key, value: Value): void {
    this.delete(key);
    this.set(key, value);
  }
}
