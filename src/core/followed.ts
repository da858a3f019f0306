import type { Overhear } from './overhear.ts';

/** Conversations that can be followed in the log: with who brings mail or submits it, with who fetches it, and with the servers it goes to. */
export const FOLLOWED = ['smtp', 'pop3', 'imap', 'delivery'] as const;
export type FollowedKind = (typeof FOLLOWED)[number];

/** Where what is heard is written. */
interface Log {
  info(data: object, text: string): void;
}

interface Wish {
  kind: FollowedKind;
  /** An address or a host name of the other side; null for all of them. */
  other: string | null;
}

/** Which conversations are written to the log, line by line. */
export class Followed {
  private count = 0;

  private constructor(
    private readonly wishes: readonly Wish[],
    /** As it was asked for. */
    readonly text: string,
  ) {}

  static readonly none = new Followed([], '');

  /**
   * Reads `smtp,delivery`, or `smtp@203.0.113.20,delivery@mx.shop.example` for conversations with one other side only. Returns what it does not know as
   * a sentence.
   */
  static parse(text: string): { kind: 'ok'; followed: Followed } | { kind: 'wrong'; reason: string } {
    const wishes: Wish[] = [];
    for (const word of text.split(',')) {
      const wish = word.trim();
      if (wish === '') continue;
      const at = wish.indexOf('@');
      const name = (at < 0 ? wish : wish.slice(0, at)).toLowerCase();
      const kind = FOLLOWED.find((one) => one === name);
      if (!kind || at === wish.length - 1) return { kind: 'wrong', reason: `“${wish}” is not one of ${FOLLOWED.join(', ')}` };
      wishes.push({ kind, other: at < 0 ? null : wish.slice(at + 1).toLowerCase() });
    }
    return { kind: 'ok', followed: new Followed(wishes, text) };
  }

  /** Who hears a new conversation with one that is known by these names; undefined when nobody follows it. `id`: by which it is known elsewhere, too. */
  begin(kind: FollowedKind, names: readonly string[], log: Log, id?: string): Overhear | undefined {
    const isWished = this.wishes.some(
      (one) => one.kind === kind && (one.other === null || names.some((name) => name.toLowerCase() === one.other)),
    );
    if (!isWished) return undefined;
    this.count += 1;
    const facts = { followed: kind, conversation: id ?? this.count, with: names.join(' ') };
    return (who, line) => log.info({ ...facts, says: who }, line);
  }
}
