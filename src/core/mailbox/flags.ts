/** The flags of the system, each a bit by its place (RFC 3501 §2.3.2). `\Recent` is gone from the protocol (RFC 9051), and is not kept. */
const SYSTEM_FLAGS = ['\\Seen', '\\Answered', '\\Flagged', '\\Deleted', '\\Draft'] as const;
export const SEEN = 1;
export const ANSWERED = 2;
export const FLAGGED = 4;
export const DELETED = 8;
export const DRAFT = 16;
export const ALL_FLAGS = 31;

/** What a message is marked with: the system's flags as bits, and keywords in their order, one space between them. */
export interface Flags {
  flags: number;
  keywords: string;
}

/** Keywords of one message. */
const MOST_KEYWORDS = 60;
const LONGEST_KEYWORD = 100;

/** Flags by their names; null when one is none that may be set. */
export function flagsOf(names: readonly string[]): Flags | null {
  let flags = 0;
  const keywords = new Map<string, string>();
  for (const name of names) {
    const place = SYSTEM_FLAGS.findIndex((one) => one.toLowerCase() === name.toLowerCase());
    if (place >= 0) flags |= 1 << place;
    else if (name.startsWith('\\')) {
      // RFC 3501 §2.3.2: nobody can change \Recent; it is passed over as many clients send it back.
      if (name.toLowerCase() !== '\\recent') return null;
    } else {
      if (name.length > LONGEST_KEYWORD) return null;
      keywords.set(name.toLowerCase(), name);
    }
  }
  return keywords.size > MOST_KEYWORDS ? null : { flags, keywords: [...keywords.values()].join(' ') };
}

/** The system's flags as they are shown, by their bits. */
const NAMES = Array.from({ length: ALL_FLAGS + 1 }, (_none, flags) =>
  SYSTEM_FLAGS.filter((_name, place) => (flags & (1 << place)) !== 0).join(' '),
);

/** The names of what a message is marked with, as FETCH shows them. */
export function flagNames({ flags, keywords }: Flags): string {
  const names = NAMES[flags & ALL_FLAGS] as string;
  return keywords === '' ? names : names === '' ? keywords : `${names} ${keywords}`;
}

export type FlagChange = 'add' | 'remove' | 'replace';

/** What becomes of a message's flags. Keywords are compared in any case, and keep the case that they came with. */
export function changedFlags(before: Flags, change: FlagChange, by: Flags): Flags {
  if (change === 'replace') return by;
  const flags = change === 'add' ? before.flags | by.flags : before.flags & ~by.flags;
  if (by.keywords === '') return { flags, keywords: before.keywords };
  const own = before.keywords === '' ? [] : before.keywords.split(' ');
  const given = by.keywords.split(' ');
  const has = (list: readonly string[], name: string): boolean => list.some((one) => one.toLowerCase() === name.toLowerCase());
  const keywords =
    change === 'add' ? [...own, ...given.filter((one) => !has(own, one))].slice(0, MOST_KEYWORDS) : own.filter((one) => !has(given, one));
  return { flags, keywords: keywords.join(' ') };
}
