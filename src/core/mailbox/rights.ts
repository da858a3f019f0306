import type { MemberRole } from '../vocabulary.ts';
import { DELETED, type Flags, SEEN } from './flags.ts';

/** What somebody may do with a folder, one letter each (RFC 4314 §2.1), in the order in which they are shown. */
export const ALL_RIGHTS = 'lrswipkxtea';

/** What somebody may do who is that to a shared mailbox. */
export const RIGHTS_OF: Record<MemberRole, string> = {
  reader: 'lrs',
  writer: 'lrswite',
  manager: ALL_RIGHTS,
};

/** Rights as they are written, in their order and once; the old letters mean what they meant (§2.1.1). Null for what is none. */
export function readRights(text: string): string | null {
  const letters = text.toLowerCase().replaceAll('c', 'k').replaceAll('d', 'xte');
  return [...letters].every((one) => ALL_RIGHTS.includes(one)) ? ordered(letters) : null;
}

const ordered = (letters: string): string => [...ALL_RIGHTS].filter((one) => letters.includes(one)).join('');

/** What is left of rights after a change (§3.1). */
export function changedRights(before: string, how: 'add' | 'remove' | 'replace', letters: string): string {
  if (how === 'replace') return ordered(letters);
  return how === 'add' ? ordered(before + letters) : [...before].filter((one) => !letters.includes(one)).join('');
}

export const mayAll = (rights: string, needed: string): boolean => [...needed].every((one) => rights.includes(one));

/** Flags that rights allow to change: `\Seen` by s, `\Deleted` by t, all others and keywords by w (§4). */
export interface FlagMask {
  bits: number;
  keywords: boolean;
}
export const flagMask = (rights: string): FlagMask => ({
  bits: (rights.includes('s') ? SEEN : 0) | (rights.includes('t') ? DELETED : 0) | (rights.includes('w') ? ~(SEEN | DELETED) : 0),
  keywords: rights.includes('w'),
});

/** What becomes of flags where only some may be changed. */
export const masked = (before: Flags, after: Flags, mask: FlagMask): Flags => ({
  flags: (after.flags & mask.bits) | (before.flags & ~mask.bits),
  keywords: mask.keywords ? after.keywords : before.keywords,
});
