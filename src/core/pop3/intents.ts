/** A message as POP3 sees it; `size` in octets as they are sent. */
export interface PopMessage {
  id: number;
  size: number;
  uid: string;
}

export type PopIntent =
  /** `isUtf8`: with letters beyond ASCII as they are (RFC 6856 §2), on which sizes depend. */
  | { kind: 'sign-in'; user: string; password: string; isUtf8: boolean }
  | { kind: 'read'; id: number; isUtf8: boolean }
  | { kind: 'remove'; ids: number[] };

export type PopOutput =
  | { kind: 'send'; bytes: Buffer }
  /** The text of the message that was asked for follows, through `MultiLine`; `lines` as TOP says. */
  | { kind: 'text'; lines: number | null }
  | { kind: 'ask'; intent: PopIntent }
  | { kind: 'start-tls' }
  /** Somebody tried to sign in without TLS, under that name if it was said. */
  | { kind: 'sign-in-in-clear'; user: string | null }
  | { kind: 'close' };

export type PopAnswer =
  | { kind: 'opened'; messages: PopMessage[] }
  | { kind: 'refused'; code: 'AUTH' | 'IN-USE' | 'SYS/TEMP' | 'SYS/PERM'; text: string }
  /** The text is at hand, whole. */
  | { kind: 'content' }
  | { kind: 'removed' };
